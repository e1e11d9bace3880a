#include "store/accounting_tables.h"

#include <SQLiteCpp/Transaction.h>
#include <fmt/format.h>

#include "accounting/keys.h"
#include "store/day_files.h"
#include "store/session_rows.h"

namespace jembatan::store {
namespace {

constexpr std::int64_t kAccountingVersion = 3;

// What version 3 has besides: how far other nodes were heard.
constexpr const char* kHeardTable = R"(
CREATE TABLE heard (node INTEGER PRIMARY KEY, last INTEGER NOT NULL);
)";

constexpr const char* kAccountingTables = R"(
CREATE TABLE progress (filled INTEGER NOT NULL, evidence_behind INTEGER NOT NULL);
INSERT INTO progress VALUES (0, 0);
CREATE TABLE settled (times INTEGER NOT NULL);
INSERT INTO settled VALUES (0);
CREATE TABLE outbox (
  to_group TEXT NOT NULL, record INTEGER NOT NULL, day INTEGER NOT NULL, received_ms INTEGER NOT NULL,
  keep INTEGER NOT NULL, aside TEXT, PRIMARY KEY (to_group, record)) WITHOUT ROWID;
CREATE INDEX session_open ON session (nas, client) WHERE ended_ms IS NULL;
)";

// Version 1: a record's row, with its digest of then, which is computed anew.
void copy_records(SQLite::Database& from, DayFiles& files) {
  constexpr int kAtATime = 20000;
  for (std::int64_t behind = 0;;) {
    SQLite::Statement rows(
        from, fmt::format("SELECT id, received_ms, event_ms, client, source, realm, attributes, x'', "
                          "x'', keep, (SELECT count(*) FROM outbox WHERE outbox.record = record.id) "
                          "FROM record WHERE id > {} ORDER BY id LIMIT {}",
                          behind, kAtATime));
    std::map<Day, std::vector<std::pair<accounting::Incoming, std::size_t>>> by_day;
    while (rows.executeStep()) {
      accounting::Incoming one;
      one.arrival = arrival_in(rows);
      one.keep = rows.getColumn(9).getInt() != 0;
      rekey(one.arrival);
      behind = one.arrival.id;
      by_day[day_of(one.arrival.received)].emplace_back(
          std::move(one), static_cast<std::size_t>(rows.getColumn(10).getInt64()));
    }
    if (by_day.empty()) return;
    for (const auto& [day, ones] : by_day) {
      DayFile& file = files.to_write(day);
      SQLite::Transaction whole(file.database(), SQLite::TransactionBehavior::IMMEDIATE);
      for (const auto& [one, waits] : ones) file.add(accounting::taken_apart(one.arrival), one.keep, waits);
      whole.commit();
    }
  }
}

void from_version_1(SQLite::Database& database, const std::filesystem::path& folder) {
  DayFiles files(folder / kRecordFolder, DayFile::Access::write);
  copy_records(database, files);
  for (const Day day : files.days()) settle(files.to_write(day).database());
  SQLite::Transaction whole(database, SQLite::TransactionBehavior::IMMEDIATE);
  database.exec(
      "DROP INDEX session_by_key; DROP INDEX session_open; DROP INDEX outbox_by_record;"
      "ALTER TABLE session RENAME TO session_1; ALTER TABLE outbox RENAME TO outbox_1");
  database.exec(fmt::format("{}{}", kSessionTable, kAccountingTables));
  database.exec(
      "INSERT INTO session SELECT id, client, nas, '', session_id, user, realm, calling_station, framed_ip, "
      "started_ms, "
      "updated_ms, updated_ms, ended_ms, CASE WHEN ended_ms IS NULL THEN 0 WHEN terminate_cause = 11 THEN 2 "
      "ELSE 1 "
      "END, 0, session_time_s, input_octets, output_octets, terminate_cause FROM session_1;"
      "INSERT OR IGNORE INTO outbox SELECT to_group, record, received_ms / 86400000, received_ms, keep, NULL "
      "FROM "
      "outbox_1 "
      "JOIN record ON record.id = outbox_1.record;"
      "UPDATE progress SET filled = coalesce((SELECT max(id) FROM record), 0);"
      "UPDATE progress SET evidence_behind = filled;"
      "DROP TABLE outbox_1; DROP TABLE session_1; DROP TABLE record; PRAGMA user_version = 2");
  whole.commit();
  database.exec("VACUUM");
}

void from_version_2(SQLite::Database& database) {
  SQLite::Transaction whole(database, SQLite::TransactionBehavior::IMMEDIATE);
  database.exec(fmt::format("{}PRAGMA user_version = 3", kHeardTable));
  whole.commit();
}

const std::vector<Contents::Table> kTablesRead{
    {"progress", ""}, {"outbox", "to_group, record"}, {"session", "id"}, {"heard", "node"}};

// What is no database at all, or of another version, is not touched.
bool has_tables_of_today(const std::filesystem::path& file) {
  try {
    SQLite::Database database = open_to_read(file);
    return number_of(database, "PRAGMA user_version") == kAccountingVersion;
  } catch (const SQLite::Exception&) {
    return false;
  }
}

}  // namespace

void settle(SQLite::Database& database) {
  database.exec(
      "PRAGMA synchronous = FULL; UPDATE settled SET times = times + 1; PRAGMA synchronous = NORMAL");
}

Result<OpenedAccounting> open_accounting(const std::filesystem::path& folder) {
  std::error_code failed;
  std::filesystem::create_directories(folder, failed);
  if (failed) return fail(Errc::io, fmt::format("data folder '{}': {}", folder.string(), failed.message()));
  const std::filesystem::path file = folder / kAccountingFile;
  if (std::filesystem::exists(file, failed) && std::filesystem::file_size(file, failed) == 0 && !failed) {
    return fail(Errc::io,
                fmt::format("'{}' is empty: the records that this node has acknowledged are not in it. "
                            "Restore it from a backup; if it never kept any, remove the file",
                            file.string()));
  }
  const auto place = [&](const Error& error) { return error.at(fmt::format("'{}'", file.string())); };
  std::filesystem::create_directories(folder / kRecordFolder, failed);
  std::filesystem::permissions(folder / kRecordFolder, std::filesystem::perms::owner_all, failed);
  auto opened = attempt(folder, [&]() -> Result<OpenedAccounting> {
    const std::string tables = std::string(kSessionTable) + kAccountingTables + kHeardTable;
    std::optional<Mended> mended;
    if (has_tables_of_today(file)) mended = mend(file, {tables, kAccountingVersion, kTablesRead});
    SQLite::Database database = open_to_write(file);
    database.exec("PRAGMA synchronous = NORMAL; PRAGMA wal_autocheckpoint = 4000");
    if (number_of(database, "PRAGMA user_version") == 1) from_version_1(database, folder);
    if (number_of(database, "PRAGMA user_version") == 2) from_version_2(database);
    if (Status s = make_tables(database, tables, kAccountingVersion); !s) return s.error();
    return OpenedAccounting{std::move(database), std::move(mended)};
  });
  if (!opened) return place(opened.error());
  return opened;
}

}  // namespace jembatan::store
