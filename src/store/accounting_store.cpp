#include "store/accounting_store.h"

#include <fmt/format.h>

#include <variant>

#include <algorithm>

#include "accounting/sessions.h"

namespace jembatan::store {
namespace {

using accounting::Incoming;
using accounting::Kept;
using accounting::Query;
using accounting::Record;
using accounting::Session;
using accounting::StatusType;
using accounting::Undelivered;

constexpr int kAccountingVersion = 1;
constexpr std::int64_t kNasReboot = 11;  // Acct-Terminate-Cause (RFC 2866 §5.10)

constexpr const char* kAccountingTables = R"(
CREATE TABLE record (
  id INTEGER PRIMARY KEY,
  received_ms INTEGER NOT NULL, event_ms INTEGER NOT NULL,
  client TEXT NOT NULL, source TEXT NOT NULL, nas TEXT NOT NULL,
  status INTEGER NOT NULL, session_id TEXT NOT NULL,
  user TEXT NOT NULL, realm TEXT NOT NULL, calling_station TEXT NOT NULL, framed_ip TEXT NOT NULL,
  input_octets INTEGER NOT NULL, output_octets INTEGER NOT NULL,
  session_time_s INTEGER NOT NULL, terminate_cause INTEGER NOT NULL,
  attributes BLOB NOT NULL, digest BLOB NOT NULL,
  keep INTEGER NOT NULL);
CREATE INDEX record_by_digest ON record (digest);
CREATE INDEX record_by_user ON record (user, id);
CREATE INDEX record_by_session ON record (session_id, id);
CREATE TABLE session (
  id INTEGER PRIMARY KEY,
  client TEXT NOT NULL, nas TEXT NOT NULL, session_id TEXT NOT NULL,
  user TEXT NOT NULL, realm TEXT NOT NULL, calling_station TEXT NOT NULL, framed_ip TEXT NOT NULL,
  started_ms INTEGER NOT NULL, updated_ms INTEGER NOT NULL, ended_ms INTEGER,
  session_time_s INTEGER NOT NULL, input_octets INTEGER NOT NULL, output_octets INTEGER NOT NULL,
  terminate_cause INTEGER NOT NULL);
CREATE INDEX session_by_key ON session (session_id, nas, client, id);
CREATE INDEX session_open ON session (nas, client) WHERE ended_ms IS NULL;
CREATE TABLE outbox (
  place INTEGER PRIMARY KEY AUTOINCREMENT,
  record INTEGER NOT NULL REFERENCES record (id),
  to_group TEXT NOT NULL);
CREATE INDEX outbox_by_record ON outbox (record);
)";

constexpr std::string_view kRecordColumns =
    "id, received_ms, event_ms, client, source, nas, status, session_id, user, realm, calling_station, "
    "framed_ip, "
    "input_octets, output_octets, session_time_s, terminate_cause, attributes, digest";
constexpr std::string_view kSessionColumns =
    "id, client, nas, session_id, user, realm, calling_station, framed_ip, started_ms, updated_ms, ended_ms, "
    "session_time_s, input_octets, output_octets, terminate_cause";

Record record_in(const Statement& row) {
  Record out;
  out.id = row.integer(0);
  out.received = row.time(1);
  out.event_time = row.time(2);
  out.client = row.text(3);
  if (const auto source = IpAddress::parse(row.text(4))) out.source = *source;
  out.nas = row.text(5);
  out.status = static_cast<StatusType>(row.integer(6));
  out.session_id = row.text(7);
  out.user = row.text(8);
  out.realm = row.text(9);
  out.calling_station = row.text(10);
  out.framed_ip = row.text(11);
  out.input_octets = static_cast<std::uint64_t>(row.integer(12));
  out.output_octets = static_cast<std::uint64_t>(row.integer(13));
  out.session_time = static_cast<std::uint32_t>(row.integer(14));
  out.terminate_cause = static_cast<std::uint32_t>(row.integer(15));
  out.attributes = row.octets(16);
  const Octets digest = row.octets(17);
  std::copy_n(digest.begin(), std::min(digest.size(), out.digest.size()), out.digest.begin());
  return out;
}

Session session_in(const Statement& row) {
  Session out;
  out.client = row.text(1);
  out.nas = row.text(2);
  out.session_id = row.text(3);
  out.user = row.text(4);
  out.realm = row.text(5);
  out.calling_station = row.text(6);
  out.framed_ip = row.text(7);
  out.started = row.time(8);
  out.updated = row.time(9);
  if (!row.is_null(10)) out.ended = row.time(10);
  out.session_time = static_cast<std::uint32_t>(row.integer(11));
  out.input_octets = static_cast<std::uint64_t>(row.integer(12));
  out.output_octets = static_cast<std::uint64_t>(row.integer(13));
  out.terminate_cause = static_cast<std::uint32_t>(row.integer(14));
  return out;
}

void bind_session(Statement& to, const Session& session) {
  to.bind(1, session.client).bind(2, session.nas).bind(3, session.session_id).bind(4, session.user);
  to.bind(5, session.realm).bind(6, session.calling_station).bind(7, session.framed_ip);
  to.bind(8, session.started).bind(9, session.updated);
  if (session.ended) {
    to.bind(10, *session.ended);
  } else {
    to.bind_null(10);
  }
  to.bind(11, std::int64_t{session.session_time}).bind(12, static_cast<std::int64_t>(session.input_octets));
  to.bind(13, static_cast<std::int64_t>(session.output_octets))
      .bind(14, std::int64_t{session.terminate_cause});
}

// The query's parts as a WHERE clause over columns that records and sessions share, and the values to bind.
struct Filter {
  std::string where = " WHERE 1";
  std::vector<std::variant<std::string, WallTime>> values;

  ///   from, until  the columns that the query's times are compared with
  Filter(const Query& query, std::string_view from, std::string_view until) {
    if (!query.user.empty()) {  // with or without its realm
      const std::size_t place = value(query.user);
      where += fmt::format(" AND (user = ?{0} OR (user > ?{0} || '@' AND user < ?{0} || 'A'))", place);
    }
    add("session_id =", query.session_id);
    add("client =", query.client);
    add("realm =", query.realm);
    if (query.since) where += fmt::format(" AND {} >= ?{}", until, value(*query.since));
    if (query.until) where += fmt::format(" AND {} < ?{}", from, value(*query.until));
  }
  std::size_t value(std::variant<std::string, WallTime> one) {
    values.push_back(std::move(one));
    return values.size();
  }
  void add(std::string_view column, const std::string& text) {
    if (!text.empty()) where += fmt::format(" AND {} ?{}", column, value(text));
  }
};

template <class Row, class Read>
Result<std::vector<Row>> all_rows(Database& database, const std::string& sql, const Filter& filter,
                                  Read read) {
  auto statement = database.prepare(sql);
  if (!statement) return statement.error();
  for (std::size_t i = 0; i < filter.values.size(); ++i)
    std::visit([&](const auto& value) { statement->bind(static_cast<int>(i + 1), value); }, filter.values[i]);
  std::vector<Row> out;
  while (true) {
    const auto row = statement->step();
    if (!row) return row.error();
    if (!*row) return out;
    out.push_back(read(*statement));
  }
}

}  // namespace

Result<std::unique_ptr<AccountingStore>> AccountingStore::open(const std::filesystem::path& folder) {
  std::error_code failed;
  std::filesystem::create_directories(folder, failed);
  if (failed) return fail(Errc::io, fmt::format("data folder '{}': {}", folder.string(), failed.message()));
  const std::filesystem::path file = folder / "accounting.sqlite";
  if (std::filesystem::exists(file, failed) && std::filesystem::file_size(file, failed) == 0 && !failed) {
    return fail(Errc::io,
                fmt::format("'{}' is empty: the records that this node has acknowledged are not in it. "
                            "Restore it from a backup; if it never kept any, remove the file",
                            file.string()));
  }
  auto database = Database::open_shared((folder / "accounting.sqlite").string());
  if (!database) return database.error();
  std::unique_ptr<AccountingStore> out(new AccountingStore(std::move(*database)));
  if (const Status prepared = out->prepare(); !prepared) {
    return prepared.error().at(fmt::format("'{}'", (folder / "accounting.sqlite").string()));
  }
  return out;
}

Result<std::unique_ptr<AccountingStore>> AccountingStore::open_for_reading(
    const std::filesystem::path& folder) {
  auto database = Database::open_for_reading((folder / "accounting.sqlite").string());
  if (!database) return database.error();
  return std::unique_ptr<AccountingStore>(new AccountingStore(std::move(*database)));
}

Status AccountingStore::prepare() {
  // FULL: a commit is on the disk when it returns, as an acknowledged record must be.
  if (Status s = database_.run("PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON"); !s) return s;
  if (Status s = database_.make_tables(kAccountingTables, kAccountingVersion); !s) return s;
  if (Status s = database_.check_quickly(); !s) return s;
  const auto keep = [this](Statement& place, const std::string& sql) -> Status {
    auto statement = database_.prepare(sql);
    if (!statement) return statement.error();
    place = std::move(*statement);
    return {};
  };
  const std::vector<std::pair<Statement*, std::string>> statements{
      {&find_resent_, "SELECT id FROM record WHERE digest = ?1 AND event_ms BETWEEN ?2 AND ?3"},
      {&insert_record_,
       fmt::format("INSERT INTO record ({}, keep) VALUES (NULL, ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, "
                   "?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18)",
                   kRecordColumns)},
      {&insert_outbox_, "INSERT INTO outbox (record, to_group) VALUES (?1, ?2)"},
      {&find_session_,
       fmt::format("SELECT {} FROM session WHERE session_id = ?1 AND nas = ?2 AND client = ?3 "
                   "ORDER BY id DESC LIMIT 1",
                   kSessionColumns)},
      {&insert_session_,
       fmt::format("INSERT INTO session ({}) VALUES (NULL, ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, "
                   "?11, ?12, ?13, ?14)",
                   kSessionColumns)},
      {&update_session_,
       "UPDATE session SET client = ?1, nas = ?2, session_id = ?3, user = ?4, realm = ?5, "
       "calling_station = ?6, framed_ip = ?7, started_ms = ?8, updated_ms = ?9, ended_ms = ?10, "
       "session_time_s = ?11, input_octets = ?12, output_octets = ?13, terminate_cause = ?14 "
       "WHERE id = ?15"},
      {&close_sessions_,
       "UPDATE session SET ended_ms = max(?1, started_ms), terminate_cause = ?2 "
       "WHERE nas = ?3 AND client = ?4 AND ended_ms IS NULL AND started_ms <= ?1"},
  };
  for (const auto& [place, sql] : statements) {
    if (Status s = keep(*place, sql); !s) return s;
  }
  return {};
}

Status AccountingStore::limit_pages(std::int64_t most) {
  return database_.run(fmt::format("PRAGMA max_page_count={}", most));
}

Result<std::vector<Kept>> AccountingStore::append(std::span<const Incoming> records) {
  std::vector<Kept> out;
  const Status done = database_.whole([&]() -> Status {
    for (const Incoming& incoming : records) {
      const auto kept = append_one(incoming);
      if (!kept) return kept.error();
      out.push_back(*kept);
    }
    return {};
  });
  if (!done) return done.error();
  return out;
}

Result<Kept> AccountingStore::append_one(const Incoming& incoming) {
  const auto resent = find_resent(incoming.record);
  if (!resent) return resent.error();
  if (*resent != 0) return Kept{*resent, true};
  if (Status s = insert_record(incoming); !s) return s.error();
  const std::int64_t id = database_.last_row();
  for (const std::string& group : incoming.groups) {
    if (Status s = insert_outbox_.bind(1, id).bind(2, group).run(); !s) return s.error();
  }
  if (incoming.keep) {
    if (Status s = apply_to_session(incoming.record); !s) return s.error();
  }
  return Kept{id, false};
}

Result<std::int64_t> AccountingStore::find_resent(const Record& record) {
  const WallTime at = record.event_time;
  find_resent_.bind(1, OctetView(record.digest));
  find_resent_.bind(2, at - accounting::kResendWindow).bind(3, at + accounting::kResendWindow);
  const auto row = find_resent_.step();
  const std::int64_t id = row && *row ? find_resent_.integer(0) : 0;
  find_resent_.reset();
  if (!row) return row.error();
  return id;
}

Status AccountingStore::insert_record(const Incoming& incoming) {
  const Record& record = incoming.record;
  Statement& to = insert_record_;
  to.bind(1, record.received).bind(2, record.event_time).bind(3, record.client);
  to.bind(4, record.source.text()).bind(5, record.nas).bind(6, static_cast<std::int64_t>(record.status));
  to.bind(7, record.session_id).bind(8, record.user).bind(9, record.realm).bind(10, record.calling_station);
  to.bind(11, record.framed_ip).bind(12, static_cast<std::int64_t>(record.input_octets));
  to.bind(13, static_cast<std::int64_t>(record.output_octets)).bind(14, std::int64_t{record.session_time});
  to.bind(15, std::int64_t{record.terminate_cause}).bind(16, OctetView(record.attributes));
  to.bind(17, OctetView(record.digest)).bind(18, std::int64_t{incoming.keep ? 1 : 0});
  return to.run();
}

Status AccountingStore::apply_to_session(const Record& record) {
  if (record.status == StatusType::accounting_on || record.status == StatusType::accounting_off) {
    return close_sessions(record);
  }
  find_session_.bind(1, record.session_id).bind(2, record.nas).bind(3, record.client);
  const auto row = find_session_.step();
  std::optional<Session> session;
  std::int64_t id = 0;
  if (row && *row) {
    session = session_in(find_session_);
    id = find_session_.integer(0);
  }
  find_session_.reset();
  if (!row) return row.error();
  switch (accounting::follow(session, record)) {
    case accounting::SessionStep::nothing:
      return {};
    case accounting::SessionStep::begin:
      bind_session(insert_session_, *session);
      return insert_session_.run();
    case accounting::SessionStep::update:
      bind_session(update_session_, *session);
      return update_session_.bind(15, id).run();
  }
  return {};
}

Status AccountingStore::close_sessions(const Record& record) {
  return close_sessions_.bind(1, record.event_time)
      .bind(2, kNasReboot)
      .bind(3, record.nas)
      .bind(4, record.client)
      .run();
}

Result<std::vector<Undelivered>> AccountingStore::undelivered(std::int64_t behind_place, std::size_t most) {
  auto statement = database_.prepare(fmt::format(
      "SELECT {}, place, to_group FROM outbox JOIN record ON record.id = outbox.record WHERE place > ?1 "
      "ORDER BY place LIMIT ?2",
      kRecordColumns));
  if (!statement) return statement.error();
  statement->bind(1, behind_place).bind(2, static_cast<std::int64_t>(most));
  std::vector<Undelivered> out;
  while (true) {
    const auto row = statement->step();
    if (!row) return row.error();
    if (!*row) return out;
    out.push_back({statement->integer(18), statement->text(19), record_in(*statement)});
  }
}

Result<std::vector<accounting::QueueDepth>> AccountingStore::queue() {
  auto statement = database_.prepare(
      "SELECT to_group, COUNT(*), MIN(record.received_ms) FROM outbox JOIN record ON record.id = "
      "outbox.record "
      "GROUP BY to_group ORDER BY to_group");
  if (!statement) return statement.error();
  std::vector<accounting::QueueDepth> out;
  while (true) {
    const auto row = statement->step();
    if (!row) return row.error();
    if (!*row) return out;
    out.push_back(
        {statement->text(0), static_cast<std::uint64_t>(statement->integer(1)), statement->time(2)});
  }
}

Status AccountingStore::delivered(std::span<const std::int64_t> places) {
  return database_.whole([&]() -> Status {
    auto passed_on = database_.prepare(
        "DELETE FROM record WHERE keep = 0 AND id = ?1 AND NOT EXISTS (SELECT 1 FROM outbox WHERE record = "
        "?1)");
    auto of_place = database_.prepare("SELECT record FROM outbox WHERE place = ?1");
    auto remove = database_.prepare("DELETE FROM outbox WHERE place = ?1");
    if (!passed_on) return passed_on.error();
    if (!of_place) return of_place.error();
    if (!remove) return remove.error();
    for (const std::int64_t place : places) {
      const auto row = of_place->bind(1, place).step();
      const std::int64_t record = row && *row ? of_place->integer(0) : 0;
      of_place->reset();
      if (!row) return row.error();
      if (Status s = remove->bind(1, place).run(); !s) return s;
      if (Status s = passed_on->bind(1, record).run(); !s) return s;
    }
    return {};
  });
}

Result<std::vector<Record>> AccountingStore::records(const Query& query) {
  const Filter filter(query, "received_ms", "received_ms");
  const std::string sql = fmt::format("SELECT {} FROM record{} ORDER BY id DESC LIMIT {}", kRecordColumns,
                                      filter.where, query.most);
  return all_rows<Record>(database_, sql, filter, record_in);
}

Result<std::vector<Session>> AccountingStore::sessions(const Query& query) {
  const Filter filter(query, "started_ms", "coalesce(ended_ms, updated_ms)");
  const std::string sql =
      fmt::format("SELECT {} FROM session{}{} ORDER BY id DESC LIMIT {}", kSessionColumns, filter.where,
                  query.open_only ? " AND ended_ms IS NULL" : "", query.most);
  return all_rows<Session>(database_, sql, filter, session_in);
}

}  // namespace jembatan::store
