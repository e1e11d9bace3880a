#include "store/day_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "accounting/keys.h"
#include "accounting/sessions.h"
#include "store/session_rows.h"

namespace jembatan::store {
namespace {

using accounting::Arrival;
using accounting::Record;

constexpr int kDayVersion = 2;
constexpr const char* kDayTables = R"(
CREATE TABLE record (
  id INTEGER PRIMARY KEY,
  received_ms INTEGER NOT NULL, event_ms INTEGER NOT NULL,
  client TEXT NOT NULL, source TEXT NOT NULL, realm TEXT NOT NULL,
  attributes BLOB NOT NULL, key BLOB NOT NULL, digest BLOB NOT NULL,
  status INTEGER NOT NULL, nas TEXT NOT NULL, port TEXT NOT NULL, session_id TEXT NOT NULL,
  user TEXT NOT NULL, calling_station TEXT NOT NULL, framed_ip TEXT NOT NULL,
  input_octets INTEGER NOT NULL, output_octets INTEGER NOT NULL,
  session_time_s INTEGER NOT NULL, terminate_cause INTEGER NOT NULL,
  keep INTEGER NOT NULL, waits INTEGER NOT NULL);
CREATE INDEX record_by_key ON record (key);
CREATE INDEX record_by_user ON record (user);
CREATE INDEX record_by_session ON record (session_id);
CREATE TABLE delivery (
  record INTEGER NOT NULL, to_group TEXT NOT NULL,
  server TEXT NOT NULL, digest BLOB NOT NULL, sent_ms INTEGER NOT NULL, acknowledged_ms INTEGER NOT NULL,
  PRIMARY KEY (record, to_group)) WITHOUT ROWID;
CREATE TABLE settled (times INTEGER NOT NULL);
INSERT INTO settled VALUES (0);
)";
// For comparing with other hops, without reading whole rows. Days of version 1 are read without it.
constexpr const char* kRecordsByEvent =
    "CREATE INDEX record_by_event ON record (event_ms, key, digest, received_ms);";
constexpr const char* kSessionsByUser = "CREATE INDEX session_by_user ON session (user);";

// Filled in behind the inbox, which forgets nothing before it is settled: no commit needs to be on the disk.
std::string day_tables() {
  return std::string(kDayTables) + kRecordsByEvent + kSessionTable + kSessionsByUser;
}

SQLite::Database opened_day(const std::filesystem::path& file) {
  SQLite::Database out = open_to_write(file);
  out.exec("PRAGMA synchronous = NORMAL; PRAGMA wal_autocheckpoint = 4000; PRAGMA cache_size = -32000");
  if (number_of(out, "PRAGMA user_version") == 1)
    out.exec(fmt::format("BEGIN; {} PRAGMA user_version = 2; COMMIT", kRecordsByEvent));
  if (const Status made = make_tables(out, day_tables(), kDayVersion); !made)
    throw SQLite::Exception(file.string() + ": " + made.error().text);
  return out;
}

}  // namespace

std::optional<Mended> DayFile::mend(const std::filesystem::path& file) {
  return store::mend(
      file,
      {day_tables(), kDayVersion, {{"record", "id"}, {"delivery", "record, to_group"}, {"session", "id"}}});
}

Day day_of(WallTime time) {
  return std::chrono::floor<std::chrono::days>(time);
}

std::string date_text(Day day) {
  const std::chrono::year_month_day date(day);
  return fmt::format("{:04}-{:02}-{:02}", static_cast<int>(date.year()), static_cast<unsigned>(date.month()),
                     static_cast<unsigned>(date.day()));
}

std::optional<Day> day_in(std::string_view text) {
  if (text.size() != 10 || text[4] != '-' || text[7] != '-') return std::nullopt;
  const auto number = [&](std::size_t at, std::size_t size) {
    int out = -1;
    const auto [end, failed] = std::from_chars(text.data() + at, text.data() + at + size, out);
    return failed == std::errc() && end == text.data() + at + size ? out : -1;
  };
  const std::chrono::year_month_day date(std::chrono::year(number(0, 4)),
                                         std::chrono::month(static_cast<unsigned>(number(5, 2))),
                                         std::chrono::day(static_cast<unsigned>(number(8, 2))));
  if (!date.ok() || number(0, 4) < 0) return std::nullopt;
  return Day(date);
}

accounting::Digest digest_in(const SQLite::Column& column) {
  accounting::Digest out{};
  const auto* octets = static_cast<const std::uint8_t*>(column.getBlob());
  std::copy_n(octets, std::min(static_cast<std::size_t>(column.getBytes()), out.size()), out.begin());
  return out;
}

Arrival arrival_in(SQLite::Statement& row) {
  Arrival out;
  out.id = row.getColumn(0).getInt64();
  out.received = time_in(row.getColumn(1));
  out.event_time = time_in(row.getColumn(2));
  out.client = text_in(row.getColumn(3));
  if (const auto source = IpAddress::parse(text_in(row.getColumn(4)))) out.source = *source;
  out.realm = text_in(row.getColumn(5));
  out.attributes = octets_in(row.getColumn(6));
  out.key = digest_in(row.getColumn(7));
  out.digest = digest_in(row.getColumn(8));
  return out;
}

Record record_in(SQLite::Statement& row) {
  Record out;
  static_cast<Arrival&>(out) = arrival_in(row);
  int at = 9;
  const auto integer = [&] { return row.getColumn(at++).getInt64(); };
  const auto text = [&] { return text_in(row.getColumn(at++)); };
  out.status = static_cast<accounting::StatusType>(integer());
  out.nas = text();
  out.port = text();
  out.session_id = text();
  out.user = text();
  out.calling_station = text();
  out.framed_ip = text();
  out.input_octets = static_cast<std::uint64_t>(integer());
  out.output_octets = static_cast<std::uint64_t>(integer());
  out.session_time = static_cast<std::uint32_t>(integer());
  out.terminate_cause = static_cast<std::uint32_t>(integer());
  return out;
}

DayFile::DayFile(const std::filesystem::path& file, Access access)
    : database_(access == Access::write ? opened_day(file) : open_to_read(file)),
      add_(
          database_,
          "INSERT OR IGNORE INTO record VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, "
          "?15, ?16, ?17, ?18, ?19, ?20, ?21, ?22)"),
      find_(database_, "SELECT id, event_ms, client, digest FROM record WHERE key = ?1"),
      arrival_(database_, fmt::format("SELECT {} FROM record WHERE id = ?1", kArrivalColumns)),
      deliver_(database_, "INSERT OR IGNORE INTO delivery VALUES (?1, ?2, ?3, ?4, ?5, ?6)"),
      one_less_(database_, "UPDATE record SET waits = waits - 1 WHERE id = ?1 AND keep = 0 AND waits > 0"),
      empty_(database_,
             "UPDATE record SET user = '', calling_station = '', framed_ip = '', attributes = x'' "
             "WHERE id = ?1 AND keep = 0 AND waits = 0"),
      put_session_(database_, std::string(kPutSession)),
      sessions_of_(database_, std::string(kSessionsOf)),
      records_of_(database_,
                  fmt::format("SELECT {} FROM record WHERE session_id = ?1 AND nas = ?2", kRecordColumns)) {}

void DayFile::add(const Record& record, bool keep, std::size_t waits) {
  const std::string source = record.source.text();
  int at = 1;
  const auto integer = [&](std::int64_t value) { add_.bind(at++, value); };
  const auto text = [&](const std::string& value) { add_.bindNoCopy(at++, value); };
  integer(record.id);
  integer(milliseconds_of(record.received));
  integer(milliseconds_of(record.event_time));
  text(record.client);
  text(source);
  text(record.realm);
  bind_octets(add_, at++, record.attributes);
  bind_octets(add_, at++, record.key);
  bind_octets(add_, at++, record.digest);
  integer(static_cast<std::int64_t>(record.status));
  text(record.nas);
  text(record.port);
  text(record.session_id);
  text(record.user);
  text(record.calling_station);
  text(record.framed_ip);
  integer(static_cast<std::int64_t>(record.input_octets));
  integer(static_cast<std::int64_t>(record.output_octets));
  integer(record.session_time);
  integer(record.terminate_cause);
  integer(keep ? 1 : 0);
  integer(static_cast<std::int64_t>(waits));
  run(add_);
}

std::optional<std::int64_t> DayFile::find(const Arrival& arrival) {
  const accounting::Sighting seen = sighting_of(arrival);
  const Rewound rewound(find_);
  bind_octets(find_, 1, arrival.key);
  while (find_.executeStep()) {
    Arrival known;
    known.id = find_.getColumn(0).getInt64();
    known.event_time = time_in(find_.getColumn(1));
    known.client = text_in(find_.getColumn(2));
    known.digest = digest_in(find_.getColumn(3));
    if (known.id != arrival.id && is_one_event(sighting_of(known), seen)) return known.id;
  }
  return std::nullopt;
}

// One that was only passed on has lost what it said.
DayFile::Again DayFile::wait_again(std::int64_t id, const accounting::Incoming& what) {
  Again out;
  SQLite::Statement handed_over(
      database_, fmt::format("DELETE FROM delivery WHERE record = ?1 AND to_group = ?2 AND server LIKE '{}%'",
                             accounting::kHandedOver));
  SQLite::Statement acknowledged(database_, "SELECT 1 FROM delivery WHERE record = ?1 AND to_group = ?2");
  for (const std::string& group : what.groups) {
    for (SQLite::Statement* one : {&handed_over, &acknowledged}) bind_all(*one, id, group);
    run(handed_over);
    if (!acknowledged.executeStep()) out.groups.push_back(group);
    acknowledged.reset();
  }
  SQLite::Statement keep(database_, "SELECT keep FROM record WHERE id = ?1");
  keep.bind(1, id);
  out.keep = keep.executeStep() && keep.getColumn(0).getInt() != 0;
  if (out.keep || out.groups.empty()) return out;
  SQLite::Statement again(database_, "UPDATE record SET attributes = ?2, waits = waits + ?3 WHERE id = ?1");
  again.bind(1, id);
  bind_octets(again, 2, what.arrival.attributes);
  again.bind(3, static_cast<std::int64_t>(out.groups.size()));
  run(again);
  return out;
}

std::optional<Arrival> DayFile::arrival(std::int64_t id) {
  const Rewound rewound(arrival_);
  arrival_.bind(1, id);
  if (!arrival_.executeStep()) return std::nullopt;
  return arrival_in(arrival_);
}

void DayFile::append_records_of(const accounting::Session& session, std::vector<Record>& to) {
  const Rewound rewound(records_of_);
  records_of_.bindNoCopy(1, session.session_id);
  records_of_.bindNoCopy(2, session.nas);
  while (records_of_.executeStep()) {
    Record one = record_in(records_of_);
    if (belongs(session, one)) to.push_back(std::move(one));
  }
}

std::optional<std::int64_t> DayFile::first_behind(std::int64_t id) {
  SQLite::Statement first(database_, "SELECT min(id) FROM record WHERE id > ?1");
  first.bind(1, id);
  if (!first.executeStep() || first.getColumn(0).isNull()) return std::nullopt;
  return first.getColumn(0).getInt64();
}

void DayFile::delivered(const accounting::Delivered& evidence, bool keep) {
  deliver_.bind(1, evidence.id);
  deliver_.bindNoCopy(2, evidence.group);
  deliver_.bindNoCopy(3, evidence.server);
  bind_octets(deliver_, 4, evidence.digest);
  deliver_.bind(5, milliseconds_of(evidence.sent));
  deliver_.bind(6, milliseconds_of(evidence.acknowledged));
  run(deliver_);
  if (keep || database_.getChanges() == 0) return;
  one_less_.bind(1, evidence.id);
  run(one_less_);
  if (database_.getChanges() == 0) return;
  empty_.bind(1, evidence.id);
  run(empty_);
}

std::vector<accounting::Delivered> DayFile::deliveries(std::int64_t id) {
  std::vector<accounting::Delivered> out;
  SQLite::Statement rows(
      database_,
      "SELECT to_group, server, digest, sent_ms, acknowledged_ms FROM delivery WHERE record = "
      "?1 ORDER BY acknowledged_ms");
  rows.bind(1, id);
  while (rows.executeStep()) {
    accounting::Delivered one;
    one.id = id;
    one.group = text_in(rows.getColumn(0));
    one.server = text_in(rows.getColumn(1));
    one.digest = digest_in(rows.getColumn(2));
    one.sent = time_in(rows.getColumn(3));
    one.acknowledged = time_in(rows.getColumn(4));
    out.push_back(std::move(one));
  }
  return out;
}

void DayFile::put(const accounting::Session& session) {
  bind_session(put_session_, session);
  run(put_session_);
}

std::optional<accounting::Session> DayFile::session_of(const Record& record) {
  return session_that_belongs(sessions_of_, record);
}

}  // namespace jembatan::store
