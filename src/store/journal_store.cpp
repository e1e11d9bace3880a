#include "store/journal_store.h"

#include <fmt/format.h>

#include <algorithm>
#include <limits>

namespace jembatan::store {
namespace {

using journal::Block;

constexpr std::int64_t kJournalVersion = 3;
constexpr std::uint64_t kPage = 4096;
constexpr int kPruned = 16;  // blocks at a time

constexpr const char* kJournalTables = R"(
CREATE TABLE block (
  first INTEGER PRIMARY KEY, last INTEGER NOT NULL, from_ms INTEGER NOT NULL, until_ms INTEGER NOT NULL,
  entries BLOB NOT NULL);
)";

std::int64_t integer_of(std::uint64_t number) {
  return static_cast<std::int64_t>(std::min<std::uint64_t>(number, std::numeric_limits<std::int64_t>::max()));
}

}  // namespace

Result<std::unique_ptr<JournalStore>> JournalStore::open(const std::filesystem::path& folder) {
  const std::string path = (folder / "journal.sqlite").string();
  auto database = Database::open_shared(path);
  if (!database) return database.error();
  std::unique_ptr<JournalStore> out(new JournalStore(std::move(*database)));
  if (const Status prepared = out->prepare(); !prepared) return prepared.error().at(path);
  return out;
}

Result<std::string> JournalStore::set_aside(const std::filesystem::path& folder) {
  const std::string name = (folder / "journal.sqlite").string();
  std::string aside;
  std::error_code failed;
  for (int i = 1; aside.empty() || std::filesystem::exists(aside, failed); ++i)
    aside = fmt::format("{}.aside-{}", name, i);
  std::filesystem::rename(name, aside, failed);
  if (failed) return fail(Errc::io, fmt::format("'{}': {}", name, failed.message()));
  for (const char* more : {"-wal", "-shm"}) std::filesystem::remove(name + more, failed);
  return aside;
}

bool JournalStore::remove(const std::filesystem::path& folder) {
  std::error_code failed;
  const bool out = std::filesystem::remove(folder / "journal.sqlite", failed);
  for (const char* more : {"-wal", "-shm"})
    std::filesystem::remove(folder / (std::string("journal.sqlite") + more), failed);
  return out;
}

Status JournalStore::prepare() {
  if (Status s = database_.run("PRAGMA synchronous = OFF"); !s) return s;
  if (Status s = database_.make_tables(kJournalTables, kJournalVersion); !s) return s;
  auto insert = database_.prepare("INSERT INTO block VALUES (?1, ?2, ?3, ?4, ?5)");
  if (!insert) return insert.error();
  insert_ = std::move(*insert);
  auto below = database_.prepare(
      "SELECT first, last, from_ms, until_ms, entries FROM block"
      " WHERE first < ?1 AND until_ms >= ?2 AND from_ms < ?3 ORDER BY first DESC LIMIT 1");
  if (!below) return below.error();
  below_ = std::move(*below);
  return {};
}

Status JournalStore::append(std::span<const Block> blocks) {
  return database_.whole([&]() -> Status {
    for (const Block& block : blocks) {
      insert_.bind(1, integer_of(block.first))
          .bind(2, integer_of(block.last))
          .bind(3, block.from)
          .bind(4, block.until)
          .bind(5, OctetView(block.entries));
      if (Status s = insert_.run(); !s) return s;
    }
    return {};
  });
}

Result<std::optional<Block>> JournalStore::below(std::uint64_t number, const std::optional<WallTime>& since,
                                                 const std::optional<WallTime>& until) {
  using Limits = std::numeric_limits<std::int64_t>;
  below_.reset();
  below_.bind(1, integer_of(number)).bind(2, Limits::min()).bind(3, Limits::max());
  if (since) below_.bind(2, *since);
  if (until) below_.bind(3, *until);
  const auto row = below_.step();
  if (!row) return row.error();
  if (!*row) return std::optional<Block>{};
  Block out;
  out.first = static_cast<std::uint64_t>(below_.integer(0));
  out.last = static_cast<std::uint64_t>(below_.integer(1));
  out.from = below_.time(2);
  out.until = below_.time(3);
  out.entries = below_.octets(4);
  below_.reset();  // an open one would hold up the file's tidying
  return std::optional(std::move(out));
}

Result<std::uint64_t> JournalStore::last() {
  const auto found = database_.number("SELECT max(last) FROM block");
  if (!found) return found.error();
  return static_cast<std::uint64_t>(*found);
}

Status JournalStore::prune(const journal::Limits& limits, WallTime now) {
  auto old = database_.prepare("DELETE FROM block WHERE until_ms < ?1");
  if (!old) return old.error();
  if (Status s = old->bind(1, now - limits.keep).run(); !s) return s;
  while (true) {
    const auto pages =
        database_.number("SELECT page_count - freelist_count FROM pragma_page_count, pragma_freelist_count");
    if (!pages) return pages.error();
    if (static_cast<std::uint64_t>(*pages) * kPage <= limits.most_octets) return {};
    const Status gone = database_.run(fmt::format(
        "DELETE FROM block WHERE first IN (SELECT first FROM block ORDER BY first LIMIT {})", kPruned));
    if (!gone || database_.changes() == 0) return gone;
  }
}

}  // namespace jembatan::store
