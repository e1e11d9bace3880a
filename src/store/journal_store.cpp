#include "store/journal_store.h"

#include <fmt/format.h>

#include "base/text.h"
#include "identity/name.h"

namespace jembatan::store {
namespace {

using journal::Entry;

constexpr std::int64_t kJournalVersion = 1;
constexpr std::uint64_t kPage = 4096;
constexpr std::int64_t kPruned = 2000;  // entries at a time

constexpr const char* kJournalTables = R"(
CREATE TABLE request (
  number INTEGER PRIMARY KEY, at_ms INTEGER NOT NULL, outcome TEXT NOT NULL, packet TEXT NOT NULL,
  client TEXT NOT NULL, source TEXT NOT NULL, user TEXT NOT NULL, compared TEXT NOT NULL, realm TEXT NOT NULL,
  server TEXT NOT NULL, reason TEXT NOT NULL, took_us INTEGER NOT NULL, revision INTEGER NOT NULL,
  trail TEXT NOT NULL, asked BLOB, answered BLOB);
CREATE INDEX request_of_user ON request (compared, number);
CREATE INDEX request_of_client ON request (client, number);
)";

constexpr std::string_view kColumns =
    "number, at_ms, outcome, packet, client, source, user, realm, server, reason, took_us, revision";

Entry entry_in(const Statement& row) {
  Entry out;
  out.number = static_cast<std::uint64_t>(row.integer(0));
  out.at = row.time(1);
  out.outcome = row.text(2);
  out.packet = row.text(3);
  out.client = row.text(4);
  out.source = row.text(5);
  out.user = row.text(6);
  out.realm = row.text(7);
  out.server = row.text(8);
  out.reason = row.text(9);
  out.took = std::chrono::microseconds(row.integer(10));
  out.revision = static_cast<std::uint64_t>(row.integer(11));
  return out;
}

// With what is looked for, each part if it is asked for.
std::string conditions_of(const journal::Query& query) {
  std::string out = " WHERE 1";
  if (!query.user.empty()) out += " AND (compared = ?1 OR (compared > ?1 || '@' AND compared < ?1 || 'A'))";
  if (!query.client.empty()) out += " AND client = ?2";
  if (!query.outcome.empty()) out += " AND outcome = ?3";
  if (!query.text.empty()) out += " AND instr(lower(user || ' ' || reason || ' ' || trail), lower(?4)) > 0";
  if (query.since) out += " AND at_ms >= ?5";
  if (query.before > 0) out += " AND number < ?6";
  if (query.until) out += " AND at_ms < ?8";
  if (!query.realm.empty()) out += " AND realm = ?9";
  return out;
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
    aside = fmt::format("{}.broken-{}", name, i);
  std::filesystem::rename(name, aside, failed);
  if (failed) return fail(Errc::io, fmt::format("'{}': {}", name, failed.message()));
  for (const char* more : {"-wal", "-shm"}) std::filesystem::remove(name + more, failed);
  return aside;
}

Status JournalStore::prepare() {
  if (Status s = database_.run("PRAGMA synchronous = OFF"); !s) return s;
  if (Status s = database_.make_tables(kJournalTables, kJournalVersion); !s) return s;
  auto insert = database_.prepare(
      "INSERT INTO request VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16)");
  if (!insert) return insert.error();
  insert_ = std::move(*insert);
  return {};
}

Status JournalStore::insert(const Entry& entry) {
  insert_.bind(1, static_cast<std::int64_t>(entry.number))
      .bind(2, entry.at)
      .bind(3, entry.outcome)
      .bind(4, entry.packet)
      .bind(5, entry.client)
      .bind(6, entry.source)
      .bind(7, entry.user)
      .bind(8, identity::comparable(entry.name))
      .bind(9, entry.realm)
      .bind(10, entry.server)
      .bind(11, entry.reason)
      .bind(12, std::int64_t{entry.took.count()})
      .bind(13, static_cast<std::int64_t>(entry.revision))
      .bind(14, join(entry.trail, "\n"))
      .bind(15, OctetView(entry.request))
      .bind(16, OctetView(entry.reply));
  return insert_.run();
}

Status JournalStore::append(std::span<const Entry> entries) {
  return database_.whole([&]() -> Status {
    for (const Entry& entry : entries) {
      if (Status s = insert(entry); !s) return s;
    }
    return {};
  });
}

Result<std::vector<Entry>> JournalStore::find(const journal::Query& query) {
  auto statement = database_.prepare(
      fmt::format("SELECT {} FROM request{} ORDER BY number DESC LIMIT ?7", kColumns, conditions_of(query)));
  if (!statement) return statement.error();
  statement->bind(1, identity::comparable(query.user))
      .bind(2, query.client)
      .bind(3, query.outcome)
      .bind(4, query.text);
  if (query.since) statement->bind(5, *query.since);
  statement->bind(6, static_cast<std::int64_t>(query.before)).bind(7, static_cast<std::int64_t>(query.most));
  if (query.until) statement->bind(8, *query.until);
  statement->bind(9, query.realm);
  std::vector<Entry> out;
  while (true) {
    const auto row = statement->step();
    if (!row) return row.error();
    if (!*row) return out;
    out.push_back(entry_in(*statement));
  }
}

Result<std::optional<Entry>> JournalStore::entry(std::uint64_t number) {
  auto statement = database_.prepare(
      fmt::format("SELECT {}, trail, asked, answered FROM request WHERE number = ?1", kColumns));
  if (!statement) return statement.error();
  statement->bind(1, static_cast<std::int64_t>(number));
  const auto row = statement->step();
  if (!row) return row.error();
  if (!*row) return std::optional<Entry>{};
  Entry out = entry_in(*statement);
  const std::string trail = statement->text(12);
  for (const std::string_view line : split(trail, '\n')) out.trail.emplace_back(line);
  out.request = statement->octets(13);
  out.reply = statement->octets(14);
  return std::optional(std::move(out));
}

Result<std::uint64_t> JournalStore::last() {
  const auto found = database_.number("SELECT max(number) FROM request");
  if (!found) return found.error();
  return static_cast<std::uint64_t>(*found);
}

Status JournalStore::prune(const journal::Limits& limits, WallTime now) {
  auto old = database_.prepare("DELETE FROM request WHERE at_ms < ?1");
  if (!old) return old.error();
  if (Status s = old->bind(1, now - limits.keep).run(); !s) return s;
  while (true) {
    const auto pages =
        database_.number("SELECT page_count - freelist_count FROM pragma_page_count, pragma_freelist_count");
    if (!pages) return pages.error();
    if (static_cast<std::uint64_t>(*pages) * kPage <= limits.most_octets) return {};
    const auto first = database_.number("SELECT min(number) FROM request");
    if (!first) return first.error();
    if (*first == 0) return {};
    auto oldest = database_.prepare("DELETE FROM request WHERE number < ?1");
    if (!oldest) return oldest.error();
    if (Status s = oldest->bind(1, *first + kPruned).run(); !s) return s;
  }
}

}  // namespace jembatan::store
