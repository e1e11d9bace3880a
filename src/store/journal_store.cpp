#include "store/journal_store.h"

#include <SQLiteCpp/Transaction.h>
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

JournalStore::JournalStore(std::filesystem::path folder, SQLite::Database database)
    : folder_(std::move(folder)),
      database_(std::move(database)),
      insert_(database_, "INSERT INTO block VALUES (?1, ?2, ?3, ?4, ?5)"),
      below_(database_,
             "SELECT first, last, from_ms, until_ms, entries FROM block"
             " WHERE first < ?1 AND until_ms >= ?2 AND from_ms < ?3 ORDER BY first DESC LIMIT 1") {}

Result<std::unique_ptr<JournalStore>> JournalStore::open(const std::filesystem::path& folder) {
  const std::filesystem::path file = folder / "journal.sqlite";
  auto opened = attempt(folder, [&]() -> Result<std::unique_ptr<JournalStore>> {
    SQLite::Database database = open_to_write(file);
    database.exec("PRAGMA synchronous = OFF");
    if (Status s = make_tables(database, kJournalTables, kJournalVersion); !s) return s.error();
    return std::unique_ptr<JournalStore>(new JournalStore(folder, std::move(database)));
  });
  if (!opened) return opened.error().at(file.string());
  return opened;
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

Status JournalStore::append(std::span<const Block> blocks) {
  return attempt(folder_, [&]() -> Status {
    SQLite::Transaction whole(database_, SQLite::TransactionBehavior::IMMEDIATE);
    for (const Block& block : blocks) {
      bind_all(insert_, integer_of(block.first), integer_of(block.last), block.from, block.until);
      bind_octets(insert_, 5, block.entries);
      run(insert_);
    }
    whole.commit();
    return {};
  });
}

Result<std::optional<Block>> JournalStore::below(std::uint64_t number, const std::optional<WallTime>& since,
                                                 const std::optional<WallTime>& until) {
  return attempt(folder_, [&]() -> Result<std::optional<Block>> {
    using Limits = std::numeric_limits<std::int64_t>;
    const Rewound rewound(below_);  // an open one would hold up the file's tidying
    bind_all(below_, integer_of(number), since ? milliseconds_of(*since) : Limits::min(),
             until ? milliseconds_of(*until) : Limits::max());
    if (!below_.executeStep()) return std::optional<Block>{};
    Block out;
    out.first = static_cast<std::uint64_t>(below_.getColumn(0).getInt64());
    out.last = static_cast<std::uint64_t>(below_.getColumn(1).getInt64());
    out.from = time_in(below_.getColumn(2));
    out.until = time_in(below_.getColumn(3));
    out.entries = octets_in(below_.getColumn(4));
    return std::optional(std::move(out));
  });
}

Result<std::uint64_t> JournalStore::last() {
  return attempt(folder_, [&]() -> Result<std::uint64_t> {
    return static_cast<std::uint64_t>(number_of(database_, "SELECT max(last) FROM block"));
  });
}

Status JournalStore::prune(const journal::Limits& limits, WallTime now) {
  return attempt(folder_, [&]() -> Status {
    SQLite::Statement old(database_, "DELETE FROM block WHERE until_ms < ?1");
    bind_all(old, now - limits.keep);
    old.exec();
    const auto octets = [&] {
      return kPage * static_cast<std::uint64_t>(number_of(
                         database_,
                         "SELECT page_count - freelist_count FROM pragma_page_count, pragma_freelist_count"));
    };
    while (octets() > limits.most_octets) {
      const int gone = database_.exec(fmt::format(
          "DELETE FROM block WHERE first IN (SELECT first FROM block ORDER BY first LIMIT {})", kPruned));
      if (gone == 0) break;
    }
    return {};
  });
}

}  // namespace jembatan::store
