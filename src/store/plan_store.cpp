#include "store/plan_store.h"

#include <SQLiteCpp/Transaction.h>
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

constexpr std::int64_t kPlanVersion = 2;

// What version 2 has besides: one row, if the plan is shared.
constexpr const char* kMembershipTable = R"(
CREATE TABLE membership (
  plan TEXT NOT NULL, origin TEXT NOT NULL, key BLOB NOT NULL, change INTEGER NOT NULL);
)";

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

void from_version_1(SQLite::Database& database) {
  SQLite::Transaction whole(database, SQLite::TransactionBehavior::IMMEDIATE);
  if (number_of(database, "PRAGMA user_version") != 1) return;
  database.exec(kMembershipTable);
  database.exec("PRAGMA user_version = 2");
  whole.commit();
}

std::string text_at(SQLite::Statement& row, int column) {
  return text_in(row.getColumn(column));
}
std::int64_t integer_at(SQLite::Statement& row, int column) {
  return row.getColumn(column).getInt64();
}

Revision revision_in(SQLite::Statement& row) {
  const auto size = [&row](int column) { return static_cast<std::size_t>(integer_at(row, column)); };
  Revision out;
  out.number = static_cast<std::uint64_t>(integer_at(row, 0));
  out.at = time_in(row.getColumn(1));
  out.author = text_at(row, 2);
  out.source = text_at(row, 3);
  out.message = text_at(row, 4);
  out.counts = {size(5), size(6), size(7), size(8)};
  return out;
}

WallTime since_of(const revision::When& when) {
  return when.since.value_or(WallTime{});
}
WallTime until_of(const revision::When& when) {
  return when.until.value_or(WallTime::max());
}

Token token_in(SQLite::Statement& row) {
  Token out{text_at(row, 0), revision::role_named(text_at(row, 1)).value_or(revision::Role::viewer),
            time_in(row.getColumn(2)), text_at(row, 3), std::nullopt};
  if (!row.getColumn(4).isNull()) out.revoked = time_in(row.getColumn(4));
  return out;
}

}  // namespace

PlanStore::PlanStore(std::filesystem::path folder, SQLite::Database database, revision::Agreement* others)
    : folder_(std::move(folder)),
      database_(std::move(database)),
      others_(others),
      kept_(database_, "SELECT sealed FROM kept_secret WHERE mark = ?1") {}

Result<std::unique_ptr<PlanStore>> PlanStore::open(const std::filesystem::path& folder,
                                                   revision::Agreement* others) {
  const std::filesystem::path file = folder / "plan.sqlite";
  auto opened = attempt(folder, [&]() -> Result<std::unique_ptr<PlanStore>> {
    SQLite::Database database = open_to_write(file);
    database.exec("PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON");
    from_version_1(database);
    const std::string tables = std::string(kPlanTables) + kMembershipTable;
    if (Status s = make_tables(database, tables, kPlanVersion); !s) return s.error();
    return std::unique_ptr<PlanStore>(new PlanStore(folder, std::move(database), others));
  });
  if (!opened) return opened.error().at(file.string());
  return opened;
}

Status PlanStore::limit_pages(std::int64_t pages) {
  return attempt(folder_, [&]() -> Status {
    database_.exec(fmt::format("PRAGMA max_page_count = {}", pages));
    return {};
  });
}

Result<std::uint64_t> PlanStore::newest() {
  return attempt(folder_, [&]() -> Result<std::uint64_t> {
    return static_cast<std::uint64_t>(number_of(database_, "SELECT max(number) FROM revision"));
  });
}

Result<Revision> PlanStore::revision(std::uint64_t number) {
  return attempt(folder_, [&]() -> Result<Revision> {
    SQLite::Statement statement(database_,
                                fmt::format("SELECT {} FROM revision WHERE number = ?1", kRevisionColumns));
    bind_all(statement, static_cast<std::int64_t>(number));
    if (statement.executeStep()) return revision_in(statement);
    return fail(Errc::not_found, fmt::format("there is no revision {}; the newest is {}", number,
                                             number_of(database_, "SELECT max(number) FROM revision")));
  });
}

Result<std::vector<Revision>> PlanStore::history(const revision::When& when, std::size_t most) {
  return attempt(folder_, [&]() -> Result<std::vector<Revision>> {
    SQLite::Statement statement(
        database_,
        fmt::format("SELECT {} FROM revision WHERE at_ms >= ?1 AND at_ms < ?2 ORDER BY number DESC LIMIT ?3",
                    kRevisionColumns));
    bind_all(statement, since_of(when), until_of(when), static_cast<std::int64_t>(most));
    auto out = all_rows(statement, revision_in);
    sum_up(out);
    return out;
  });
}

// Which objects the small ones of these revisions changed: one look at all objects, however many revisions.
void PlanStore::sum_up(std::vector<Revision>& revisions) {
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
  if (changes.empty()) return;
  SQLite::Statement row(
      database_,
      "SELECT kind, name, since, coalesce(before, 0) FROM object WHERE since >= ?1 OR before >= ?1");
  bind_all(row, static_cast<std::int64_t>(changes.begin()->first));
  while (row.executeStep()) {
    const std::string name = text_at(row, 0) + (text_at(row, 1).empty() ? "" : " ") + text_at(row, 1);
    for (const bool began : {true, false}) {
      const auto found = changes.find(static_cast<std::uint64_t>(integer_at(row, began ? 2 : 3)));
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
}

Result<revision::Objects> PlanStore::objects(std::uint64_t number) {
  return attempt(folder_, [&]() -> Result<revision::Objects> {
    SQLite::Statement row(
        database_,
        "SELECT kind, name, rank, text FROM object WHERE since <= ?1 AND (before IS NULL OR before > ?1)");
    bind_all(row, static_cast<std::int64_t>(number));
    revision::Objects out;
    while (row.executeStep())
      out.put({text_at(row, 0), text_at(row, 1), integer_at(row, 2), text_at(row, 3)});
    return out;
  });
}

Result<std::vector<revision::Form>> PlanStore::forms(std::string_view kind, std::string_view name,
                                                     std::size_t most) {
  return attempt(folder_, [&]() -> Result<std::vector<revision::Form>> {
    SQLite::Statement row(
        database_,
        "SELECT kind, name, rank, text, since, coalesce(before, 0) FROM object WHERE kind = ?1 AND name = ?2 "
        "ORDER BY since DESC LIMIT ?3");
    bind_all(row, kind, name, static_cast<std::int64_t>(most));
    std::vector<revision::Form> out;
    std::int64_t until = 0;  // where the next newer form began; 0: in force
    while (row.executeStep() && integer_at(row, 5) == until) {
      until = integer_at(row, 4);
      out.push_back({{text_at(row, 0), text_at(row, 1), integer_at(row, 2), text_at(row, 3)},
                     static_cast<std::uint64_t>(until)});
    }
    return out;
  });
}

Status PlanStore::commit(const Commit& commit) {
  return attempt(folder_, [&]() -> Status {
    SQLite::Transaction whole(database_, SQLite::TransactionBehavior::IMMEDIATE);
    if (number_of(database_, "SELECT max(number) FROM revision") + 1 !=
            static_cast<std::int64_t>(commit.revision.number) &&
        others_ != nullptr)
      return fail(Errc::conflict, "another node changed the plan at the same time; look at it and try again");
    write_revision(commit);
    write_audit(commit.audit);
    if (const Status agreed = agree({revision::SharedRevision{commit, nullptr}, commit.audit}); !agreed)
      return agreed;
    whole.commit();
    return {};
  });
}

void PlanStore::write_revision(const Commit& commit) {
  const Revision& r = commit.revision;
  SQLite::Statement insert(
      database_,
      fmt::format("INSERT INTO revision ({}) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)", kRevisionColumns));
  const auto integer = [](std::size_t count) { return static_cast<std::int64_t>(count); };
  bind_all(insert, integer(r.number), r.at, r.author, r.source, r.message, integer(r.counts.added),
           integer(r.counts.changed), integer(r.counts.removed), integer(r.counts.moved));
  insert.exec();
  write_changes(commit);
}

void PlanStore::write_changes(const Commit& commit) {
  const auto number = static_cast<std::int64_t>(commit.revision.number);
  SQLite::Statement close(database_,
                          "UPDATE object SET before = ?1 WHERE kind = ?2 AND name = ?3 AND before IS NULL");
  SQLite::Statement insert(database_,
                           "INSERT INTO object (kind, name, rank, text, since) VALUES (?1, ?2, ?3, ?4, ?5)");
  SQLite::Statement keep(database_, "INSERT OR IGNORE INTO kept_secret (mark, sealed) VALUES (?1, ?2)");
  for (const ObjectChange& change : commit.changes) {
    if (change.what != What::added) {
      bind_all(close, number, change.kind, change.stored);
      run(close);
    }
    if (change.after == nullptr) continue;
    bind_all(insert, change.after->kind, change.after->name, change.after->rank, change.after->text, number);
    run(insert);
  }
  for (const revision::KeptSecret& secret : commit.secrets) {
    bind_all(keep, secret.mark, OctetView(secret.sealed));
    run(keep);
  }
}

Result<Octets> PlanStore::kept(const std::string& mark) {
  return attempt(folder_, [&]() -> Result<Octets> {
    const Rewound rewound(kept_);
    bind_all(kept_, mark);
    return kept_.executeStep() ? octets_in(kept_.getColumn(0)) : Octets{};
  });
}

void PlanStore::write_audit(const AuditEntry& entry) {
  SQLite::Statement insert(
      database_,
      "INSERT INTO audit (at_ms, author, role, came_from, action, subject, detail) VALUES "
      "(?1, ?2, ?3, ?4, ?5, ?6, ?7)");
  bind_all(insert, entry.at, entry.author, entry.role, entry.from, entry.action, entry.subject, entry.detail);
  insert.exec();
}

Status PlanStore::record(const AuditEntry& entry) {
  return attempt(folder_, [&]() -> Status {
    write_audit(entry);
    return {};
  });
}

Result<std::vector<AuditEntry>> PlanStore::audit(const revision::AuditQuery& query) {
  return attempt(folder_, [&]() -> Result<std::vector<AuditEntry>> {
    SQLite::Statement statement(
        database_,
        "SELECT id, at_ms, author, role, came_from, action, subject, detail FROM audit WHERE (?1 = '' OR "
        "author = ?1) AND (?2 = '' OR action = ?2) AND (?3 = '' OR instr(subject, ?3) > 0) AND at_ms >= ?5 "
        "AND at_ms < ?6 ORDER BY id DESC LIMIT ?4");
    bind_all(statement, query.author, query.action, query.subject, static_cast<std::int64_t>(query.most),
             since_of(query.when), until_of(query.when));
    return all_rows(statement, [](SQLite::Statement& row) {
      return AuditEntry{integer_at(row, 0), time_in(row.getColumn(1)), text_at(row, 2), text_at(row, 3),
                        text_at(row, 4),    text_at(row, 5),           text_at(row, 6), text_at(row, 7)};
    });
  });
}

Status PlanStore::add_token(const Token& token, const Octets& hash, const AuditEntry& audit) {
  return attempt(folder_, [&]() -> Status {
    SQLite::Transaction whole(database_, SQLite::TransactionBehavior::IMMEDIATE);
    SQLite::Statement there(database_, "SELECT 1 FROM token WHERE name = ?1");
    bind_all(there, token.name);
    if (there.executeStep())
      return fail(Errc::conflict, fmt::format("a token '{}' is there already, or was; choose another name",
                                              escaped(token.name)));
    write_token(token, hash);
    write_audit(audit);
    if (const Status agreed = agree({revision::SharedToken{token, hash}, audit}); !agreed) return agreed;
    whole.commit();
    return {};
  });
}

void PlanStore::write_token(const Token& token, const Octets& hash) {
  SQLite::Statement insert(
      database_, "INSERT INTO token (name, role, hash, made_ms, made_by) VALUES (?1, ?2, ?3, ?4, ?5)");
  bind_all(insert, token.name, revision::name_of(token.role), OctetView(hash), token.made, token.made_by);
  insert.exec();
}

Status PlanStore::revoke_token(const std::string& name, WallTime at, const AuditEntry& audit) {
  return attempt(folder_, [&]() -> Status {
    SQLite::Transaction whole(database_, SQLite::TransactionBehavior::IMMEDIATE);
    if (write_revoked(name, at) == 0)
      return fail(Errc::not_found, fmt::format("there is no token '{}' in force", escaped(name)));
    write_audit(audit);
    if (const Status agreed = agree({revision::RevokedToken{name, at}, audit}); !agreed) return agreed;
    whole.commit();
    return {};
  });
}

int PlanStore::write_revoked(const std::string& name, WallTime at) {
  SQLite::Statement revoke(database_,
                           "UPDATE token SET revoked_ms = ?1 WHERE name = ?2 AND revoked_ms IS NULL");
  bind_all(revoke, at, name);
  return revoke.exec();
}

std::uint64_t PlanStore::last_shared() {
  return static_cast<std::uint64_t>(number_of(database_, "SELECT change FROM membership"));
}

void PlanStore::note_shared(std::uint64_t number) {
  SQLite::Statement note(database_, "UPDATE membership SET change = ?1");
  bind_all(note, static_cast<std::int64_t>(number));
  note.exec();
}

Status PlanStore::agree(const revision::SharedChange& change) {
  if (others_ == nullptr) return {};
  const auto number = others_->agree(last_shared(), change);
  if (!number) return number.error();
  note_shared(*number);
  return {};
}

Result<revision::Membership> PlanStore::membership() {
  return attempt(folder_, [&]() -> Result<revision::Membership> {
    SQLite::Statement row(database_, "SELECT plan, origin, key, change FROM membership");
    revision::Membership out;
    if (row.executeStep())
      out = {text_at(row, 0), text_at(row, 1), octets_in(row.getColumn(2)),
             static_cast<std::uint64_t>(integer_at(row, 3))};
    return out;
  });
}

Result<std::vector<revision::SharedChange>> PlanStore::beginning(const AuditEntry& audit) {
  std::vector<revision::SharedChange> out;
  const auto number = newest();
  if (!number) return number.error();
  if (*number > 0) {
    const auto last = revision(*number);
    auto stored = objects(*number);
    if (!last) return last.error();
    if (!stored) return stored.error();
    revision::SharedRevision whole{{*last, {}, {}, audit},
                                   std::make_shared<revision::Objects>(std::move(*stored))};
    for (const revision::Object* object : whole.objects->list()) {
      ObjectChange& added = whole.commit.changes.emplace_back();
      added.what = What::added;
      added.kind = object->kind;
      added.name = added.stored = object->name;
      added.after = object;
    }
    const Status secrets = attempt(folder_, [&]() -> Status {
      SQLite::Statement row(database_, "SELECT mark, sealed FROM kept_secret");
      while (row.executeStep())
        whole.commit.secrets.push_back({text_at(row, 0), octets_in(row.getColumn(1))});
      return {};
    });
    if (!secrets) return secrets.error();
    out.push_back({std::move(whole), audit});
  }
  const auto known = tokens_in_force();
  if (!known) return known.error();
  for (const KnownToken& one : *known) out.push_back({revision::SharedToken{one.token, one.hash}, audit});
  return out;
}

Status PlanStore::join(const revision::Membership& membership) {
  return attempt(folder_, [&]() -> Status {
    SQLite::Transaction whole(database_, SQLite::TransactionBehavior::IMMEDIATE);
    database_.exec("DELETE FROM membership");
    SQLite::Statement insert(database_,
                             "INSERT INTO membership (plan, origin, key, change) VALUES (?1, ?2, ?3, ?4)");
    bind_all(insert, membership.plan, membership.origin, OctetView(membership.key),
             static_cast<std::int64_t>(membership.change));
    insert.exec();
    whole.commit();
    return {};
  });
}

Status PlanStore::follow(std::uint64_t number, const revision::SharedChange& change) {
  return attempt(folder_, [&]() -> Status {
    SQLite::Transaction whole(database_, SQLite::TransactionBehavior::IMMEDIATE);
    const std::uint64_t last = last_shared();
    if (number <= last) return {};
    if (number > last + 1)
      return fail(Errc::conflict,
                  fmt::format("change {} of the shared plan does not follow {}", number, last));
    if (const auto* one = std::get_if<revision::SharedRevision>(&change.what)) write_revision(one->commit);
    if (const auto* one = std::get_if<revision::SharedToken>(&change.what))
      write_token(one->token, one->hash);
    if (const auto* one = std::get_if<revision::RevokedToken>(&change.what))
      write_revoked(one->name, one->at);
    write_audit(change.audit);
    note_shared(number);
    whole.commit();
    return {};
  });
}

Result<std::vector<Token>> PlanStore::tokens() {
  return attempt(folder_, [&]() -> Result<std::vector<Token>> {
    SQLite::Statement statement(database_,
                                "SELECT name, role, made_ms, made_by, revoked_ms FROM token ORDER BY name");
    return all_rows(statement, token_in);
  });
}

Result<std::vector<KnownToken>> PlanStore::tokens_in_force() {
  return attempt(folder_, [&]() -> Result<std::vector<KnownToken>> {
    SQLite::Statement statement(
        database_,
        "SELECT name, role, made_ms, made_by, revoked_ms, hash FROM token WHERE revoked_ms IS NULL");
    return all_rows(statement, [](SQLite::Statement& row) {
      return KnownToken{octets_in(row.getColumn(5)), token_in(row)};
    });
  });
}

}  // namespace jembatan::store
