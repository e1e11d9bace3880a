#include "store/plan_store.h"

#include <fmt/format.h>

#include <map>

#include "base/text.h"

namespace jembatan::store {
namespace {

using revision::AuditEntry;
using revision::Commit;
using revision::KnownToken;
using revision::ObjectChange;
using revision::Revision;
using revision::Token;
using revision::What;

constexpr std::int64_t kPlanVersion = 1;

constexpr const char* kPlanTables = R"(
CREATE TABLE revision (
  number INTEGER PRIMARY KEY, at_ms INTEGER NOT NULL,
  author TEXT NOT NULL, source TEXT NOT NULL, message TEXT NOT NULL,
  added INTEGER NOT NULL, changed INTEGER NOT NULL, removed INTEGER NOT NULL, moved INTEGER NOT NULL);
CREATE TABLE object (
  kind TEXT NOT NULL, name TEXT NOT NULL, rank INTEGER NOT NULL, text TEXT NOT NULL,
  since INTEGER NOT NULL REFERENCES revision (number), before INTEGER REFERENCES revision (number));
CREATE INDEX object_in_force ON object (kind, name) WHERE before IS NULL;
CREATE TABLE kept_secret (mark TEXT PRIMARY KEY, sealed BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE token (
  name TEXT PRIMARY KEY, role TEXT NOT NULL, hash BLOB NOT NULL UNIQUE,
  made_ms INTEGER NOT NULL, made_by TEXT NOT NULL, revoked_ms INTEGER);
CREATE TABLE audit (
  id INTEGER PRIMARY KEY AUTOINCREMENT, at_ms INTEGER NOT NULL,
  author TEXT NOT NULL, role TEXT NOT NULL, came_from TEXT NOT NULL,
  action TEXT NOT NULL, subject TEXT NOT NULL, detail TEXT NOT NULL);
CREATE TRIGGER audit_stays BEFORE DELETE ON audit BEGIN SELECT RAISE(ABORT, 'the audit record only grows'); END;
CREATE TRIGGER audit_is_true BEFORE UPDATE ON audit BEGIN SELECT RAISE(ABORT, 'the audit record only grows'); END;
)";

constexpr std::string_view kRevisionColumns =
    "number, at_ms, author, source, message, added, changed, removed, moved";

std::size_t size_in(const Statement& row, int column) {
  return static_cast<std::size_t>(row.integer(column));
}

Revision revision_in(const Statement& row) {
  Revision out;
  out.number = static_cast<std::uint64_t>(row.integer(0));
  out.at = row.time(1);
  out.author = row.text(2);
  out.source = row.text(3);
  out.message = row.text(4);
  out.counts = {size_in(row, 5), size_in(row, 6), size_in(row, 7), size_in(row, 8)};
  return out;
}

// Two places: from when on, and before when.
void bind_times(Statement& statement, int place, const revision::When& when) {
  statement.bind(place, when.since.value_or(WallTime{}));
  statement.bind(place + 1, when.until.value_or(WallTime::max()));
}

Token token_in(const Statement& row) {
  Token out{row.text(0), revision::role_named(row.text(1)).value_or(revision::Role::viewer), row.time(2),
            row.text(3), std::nullopt};
  if (!row.is_null(4)) out.revoked = row.time(4);
  return out;
}

// All rows of a statement, each as `read` makes it.
template <class Row>
Result<std::vector<Row>> all_rows(Statement& statement, Row (*read)(const Statement&)) {
  std::vector<Row> out;
  while (true) {
    const auto row = statement.step();
    if (!row) return row.error();
    if (!*row) return out;
    out.push_back(read(statement));
  }
}

std::int64_t number_in(const Statement& row) {
  return row.integer(0);
}

}  // namespace

Result<std::unique_ptr<PlanStore>> PlanStore::open(const std::filesystem::path& folder) {
  const std::string path = (folder / "plan.sqlite").string();
  auto database = Database::open_shared(path);
  if (!database) return database.error();
  std::unique_ptr<PlanStore> out(new PlanStore(std::move(*database)));
  if (const Status made = out->make_tables(); !made) return made.error().at(path);
  auto kept = out->database_.prepare("SELECT sealed FROM kept_secret WHERE mark = ?1");
  if (!kept) return kept.error().at(path);
  out->kept_ = std::move(*kept);
  return out;
}

Status PlanStore::make_tables() {
  if (Status s = database_.run("PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON;"); !s) return s;
  return database_.make_tables(kPlanTables, kPlanVersion);
}

Status PlanStore::limit_pages(std::int64_t pages) {
  return database_.run(fmt::format("PRAGMA max_page_count = {}", pages));
}

Result<std::uint64_t> PlanStore::newest() {
  const auto found = database_.number("SELECT max(number) FROM revision");
  if (!found) return found.error();
  return static_cast<std::uint64_t>(*found);
}

Result<Revision> PlanStore::revision(std::uint64_t number) {
  auto statement =
      database_.prepare(fmt::format("SELECT {} FROM revision WHERE number = ?1", kRevisionColumns));
  if (!statement) return statement.error();
  statement->bind(1, static_cast<std::int64_t>(number));
  auto found = all_rows(*statement, revision_in);
  if (!found) return found.error();
  if (!found->empty()) return found->front();
  const auto last = newest();
  return fail(Errc::not_found,
              fmt::format("there is no revision {}; the newest is {}", number, last ? *last : 0));
}

Result<std::vector<Revision>> PlanStore::history(const revision::When& when, std::size_t most) {
  auto statement = database_.prepare(
      fmt::format("SELECT {} FROM revision WHERE at_ms >= ?1 AND at_ms < ?2 ORDER BY number DESC LIMIT ?3",
                  kRevisionColumns));
  if (!statement) return statement.error();
  bind_times(*statement, 1, when);
  statement->bind(3, static_cast<std::int64_t>(most));
  auto out = all_rows(*statement, revision_in);
  if (!out || out->empty()) return out;
  const Status told = sum_up(*out);
  if (!told) return told.error();
  return out;
}

// Which objects the small ones of these revisions changed: one look at all objects, however many revisions.
Status PlanStore::sum_up(std::vector<Revision>& revisions) {
  constexpr std::size_t kFew = 3;
  struct Change {
    bool began = false;
    bool ended = false;
  };
  std::map<std::uint64_t, std::map<std::string, Change>> changes;
  for (const Revision& r : revisions) {
    const std::size_t total = r.counts.added + r.counts.changed + r.counts.removed + r.counts.moved;
    if (total > 0 && total <= kFew) changes[r.number];
  }
  if (changes.empty()) return {};
  auto statement = database_.prepare(
      "SELECT kind, name, since, coalesce(before, 0) FROM object WHERE since >= ?1 OR before >= ?1");
  if (!statement) return statement.error();
  statement->bind(1, static_cast<std::int64_t>(changes.begin()->first));
  while (true) {
    const auto row = statement->step();
    if (!row) return row.error();
    if (!*row) break;
    const std::string name =
        statement->text(0) + (statement->text(1).empty() ? "" : " ") + statement->text(1);
    for (const bool began : {true, false}) {
      const auto found = changes.find(static_cast<std::uint64_t>(statement->integer(began ? 2 : 3)));
      if (found != changes.end()) (began ? found->second[name].began : found->second[name].ended) = true;
    }
  }
  for (Revision& r : revisions) {
    const auto found = changes.find(r.number);
    const std::size_t total = r.counts.added + r.counts.changed + r.counts.removed + r.counts.moved;
    if (found == changes.end() || found->second.size() != total) continue;  // others only changed their rank
    for (const auto& [name, change] : found->second)
      r.summary += fmt::format("{}{} {}", r.summary.empty() ? "" : ", ", name,
                               !change.ended  ? "added"
                               : change.began ? "changed"
                                              : "removed");
  }
  return {};
}

Result<revision::Objects> PlanStore::objects(std::uint64_t number) {
  auto statement = database_.prepare(
      "SELECT kind, name, rank, text FROM object WHERE since <= ?1 AND (before IS NULL OR before > ?1)");
  if (!statement) return statement.error();
  statement->bind(1, static_cast<std::int64_t>(number));
  revision::Objects out;
  while (true) {
    const auto row = statement->step();
    if (!row) return row.error();
    if (!*row) return out;
    out.put({statement->text(0), statement->text(1), statement->integer(2), statement->text(3)});
  }
}

Result<std::vector<revision::Form>> PlanStore::forms(std::string_view kind, std::string_view name,
                                                     std::size_t most) {
  auto statement = database_.prepare(
      "SELECT kind, name, rank, text, since, coalesce(before, 0) FROM object WHERE kind = ?1 AND name = ?2 "
      "ORDER BY since DESC LIMIT ?3");
  if (!statement) return statement.error();
  statement->bind(1, kind).bind(2, name).bind(3, static_cast<std::int64_t>(most));
  std::vector<revision::Form> out;
  std::int64_t until = 0;  // where the next newer form began; 0: in force
  while (true) {
    const auto row = statement->step();
    if (!row) return row.error();
    if (!*row || statement->integer(5) != until) return out;
    until = statement->integer(4);
    out.push_back({{statement->text(0), statement->text(1), statement->integer(2), statement->text(3)},
                   static_cast<std::uint64_t>(until)});
  }
}

Status PlanStore::commit(const Commit& commit) {
  return database_.whole([&]() -> Status {
    const Revision& r = commit.revision;
    auto statement = database_.prepare(fmt::format(
        "INSERT INTO revision ({}) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)", kRevisionColumns));
    if (!statement) return statement.error();
    statement->bind(1, static_cast<std::int64_t>(r.number)).bind(2, r.at).bind(3, r.author);
    statement->bind(4, r.source).bind(5, r.message);
    int place = 6;
    for (const std::size_t count : {r.counts.added, r.counts.changed, r.counts.removed, r.counts.moved})
      statement->bind(place++, static_cast<std::int64_t>(count));
    if (Status s = statement->run(); !s) return s;
    if (Status s = write_changes(commit); !s) return s;
    return write_audit(commit.audit);
  });
}

Status PlanStore::write_changes(const Commit& commit) {
  const auto number = static_cast<std::int64_t>(commit.revision.number);
  auto close =
      database_.prepare("UPDATE object SET before = ?1 WHERE kind = ?2 AND name = ?3 AND before IS NULL");
  auto insert =
      database_.prepare("INSERT INTO object (kind, name, rank, text, since) VALUES (?1, ?2, ?3, ?4, ?5)");
  auto keep = database_.prepare("INSERT OR IGNORE INTO kept_secret (mark, sealed) VALUES (?1, ?2)");
  if (!close || !insert || !keep) return fail(Errc::io, "store: statements cannot be prepared");
  for (const ObjectChange& change : commit.changes) {
    if (change.what != What::added) {
      close->bind(1, number).bind(2, change.kind).bind(3, change.stored);
      if (Status s = close->run(); !s) return s;
    }
    if (change.after == nullptr) continue;
    insert->bind(1, change.after->kind).bind(2, change.after->name).bind(3, change.after->rank);
    insert->bind(4, change.after->text).bind(5, number);
    if (Status s = insert->run(); !s) return s;
  }
  for (const revision::KeptSecret& secret : commit.secrets) {
    keep->bind(1, secret.mark).bind(2, OctetView(secret.sealed));
    if (Status s = keep->run(); !s) return s;
  }
  return {};
}

Result<Octets> PlanStore::kept(const std::string& mark) {
  kept_.bind(1, mark);
  const auto row = kept_.step();
  Octets out;
  if (row && *row) out = kept_.octets(0);
  kept_.reset();
  if (!row) return row.error();
  return out;
}

Status PlanStore::write_audit(const AuditEntry& entry) {
  auto statement = database_.prepare(
      "INSERT INTO audit (at_ms, author, role, came_from, action, subject, detail) VALUES (?1, ?2, ?3, ?4, "
      "?5, ?6, "
      "?7)");
  if (!statement) return statement.error();
  statement->bind(1, entry.at).bind(2, entry.author).bind(3, entry.role).bind(4, entry.from);
  statement->bind(5, entry.action).bind(6, entry.subject).bind(7, entry.detail);
  return statement->run();
}

Status PlanStore::record(const AuditEntry& entry) {
  return write_audit(entry);
}

Result<std::vector<AuditEntry>> PlanStore::audit(const revision::AuditQuery& query) {
  auto statement = database_.prepare(
      "SELECT id, at_ms, author, role, came_from, action, subject, detail FROM audit WHERE (?1 = '' OR "
      "author = ?1) "
      "AND (?2 = '' OR action = ?2) AND (?3 = '' OR instr(subject, ?3) > 0) AND at_ms >= ?5 AND at_ms < ?6 "
      "ORDER BY id DESC LIMIT ?4");
  if (!statement) return statement.error();
  statement->bind(1, query.author).bind(2, query.action).bind(3, query.subject);
  statement->bind(4, static_cast<std::int64_t>(query.most));
  bind_times(*statement, 5, query.when);
  return all_rows<AuditEntry>(*statement, [](const Statement& row) {
    return AuditEntry{row.integer(0), row.time(1), row.text(2), row.text(3),
                      row.text(4),    row.text(5), row.text(6), row.text(7)};
  });
}

Status PlanStore::add_token(const Token& token, const Octets& hash, const AuditEntry& audit) {
  auto there = database_.prepare("SELECT count(*) FROM token WHERE name = ?1");
  if (!there) return there.error();
  there->bind(1, token.name);
  const auto found = all_rows(*there, number_in);
  if (!found) return found.error();
  if (found->front() > 0)
    return fail(Errc::conflict, fmt::format("a token '{}' is there already, or was; choose another name",
                                            escaped(token.name)));
  return database_.whole([&]() -> Status {
    auto statement = database_.prepare(
        "INSERT INTO token (name, role, hash, made_ms, made_by) VALUES (?1, ?2, ?3, ?4, ?5)");
    if (!statement) return statement.error();
    statement->bind(1, token.name).bind(2, revision::name_of(token.role)).bind(3, OctetView(hash));
    statement->bind(4, token.made).bind(5, token.made_by);
    if (Status s = statement->run(); !s) return s;
    return write_audit(audit);
  });
}

Status PlanStore::revoke_token(const std::string& name, WallTime at, const AuditEntry& audit) {
  return database_.whole([&]() -> Status {
    auto statement =
        database_.prepare("UPDATE token SET revoked_ms = ?1 WHERE name = ?2 AND revoked_ms IS NULL");
    if (!statement) return statement.error();
    statement->bind(1, at).bind(2, name);
    if (Status s = statement->run(); !s) return s;
    if (database_.changes() == 0)
      return fail(Errc::not_found, fmt::format("there is no token '{}' in force", escaped(name)));
    return write_audit(audit);
  });
}

Result<std::vector<Token>> PlanStore::tokens() {
  auto statement =
      database_.prepare("SELECT name, role, made_ms, made_by, revoked_ms FROM token ORDER BY name");
  if (!statement) return statement.error();
  return all_rows(*statement, token_in);
}

Result<std::vector<KnownToken>> PlanStore::tokens_in_force() {
  auto statement = database_.prepare(
      "SELECT name, role, made_ms, made_by, revoked_ms, hash FROM token WHERE revoked_ms IS NULL");
  if (!statement) return statement.error();
  return all_rows<KnownToken>(*statement, [](const Statement& row) {
    return KnownToken{row.octets(5), token_in(row)};
  });
}

}  // namespace jembatan::store
