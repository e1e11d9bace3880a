#include "store/database.h"

#include <SQLiteCpp/Transaction.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

namespace jembatan::store {
namespace {

constexpr int kBusyFor = 5000;  // milliseconds

// What holds for all of SQLite, before anything is opened.
void set_up_sqlite() {
  static const int done = sqlite3_config(SQLITE_CONFIG_MEMSTATUS, 0);  // counting takes a lock each time
  (void)done;
}

}  // namespace

Error error_of(const SQLite::Exception& problem, const std::filesystem::path& folder) {
  std::string text = fmt::format("store: {}", problem.what());
  if (problem.getErrorCode() == SQLITE_FULL) {
    std::error_code failed;
    const auto space = std::filesystem::space(folder, failed);
    text += fmt::format(": make room in folder '{}'", folder.string());
    if (!failed) text += fmt::format(", where {} KiB are free", space.available >> 10U);
  }
  return fail(Errc::io, std::move(text));
}

SQLite::Database open_to_write(const std::filesystem::path& file) {
  set_up_sqlite();
  // Made here with its owner's rights alone; SQLite gives the files beside it the same ones.
  const int made = ::open(file.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
  if (made >= 0) ::close(made);
  SQLite::Database out(file.string(), SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE | SQLite::OPEN_NOMUTEX,
                       kBusyFor);
  out.exec("PRAGMA journal_mode = WAL");
  return out;
}

SQLite::Database open_to_read(const std::filesystem::path& file) {
  set_up_sqlite();
  return {file.string(), SQLite::OPEN_READONLY | SQLite::OPEN_NOMUTEX, kBusyFor};
}

Status make_tables(SQLite::Database& database, const std::string& tables, std::int64_t version) {
  SQLite::Transaction whole(database, SQLite::TransactionBehavior::IMMEDIATE);
  const std::int64_t found = number_of(database, "PRAGMA user_version");
  if (found == version) return {};
  if (found != 0)
    return fail(Errc::conflict, fmt::format("made by {} version (tables {}, known {})",
                                            found > version ? "a newer" : "an older", found, version));
  database.exec(fmt::format("{}PRAGMA user_version = {}", tables, version));
  whole.commit();
  return {};
}

std::int64_t number_of(SQLite::Database& database, const std::string& sql) {
  SQLite::Statement statement(database, sql);
  return statement.executeStep() ? statement.getColumn(0).getInt64() : 0;
}

std::int64_t milliseconds_of(WallTime time) {
  return std::chrono::duration_cast<std::chrono::milliseconds>(time.time_since_epoch()).count();
}

WallTime time_in(const SQLite::Column& column) {
  return WallTime(std::chrono::milliseconds(column.getInt64()));
}

Octets octets_in(const SQLite::Column& column) {
  const auto* octets = static_cast<const std::uint8_t*>(column.getBlob());
  return octets == nullptr ? Octets{} : Octets(octets, octets + column.getBytes());
}

std::string text_in(const SQLite::Column& column) {
  const char* text = column.getText();
  return {text, static_cast<std::size_t>(column.getBytes())};
}

void bind_value(SQLite::Statement& to, int place, std::int64_t value) {
  to.bind(place, value);
}
void bind_value(SQLite::Statement& to, int place, std::string_view text) {
  to.bind(place, std::string(text));
}
void bind_value(SQLite::Statement& to, int place, OctetView octets) {
  to.bind(place, static_cast<const void*>(octets.data()), static_cast<int>(octets.size()));
}
void bind_value(SQLite::Statement& to, int place, WallTime time) {
  to.bind(place, milliseconds_of(time));
}

void bind_octets(SQLite::Statement& to, int place, OctetView octets) {
  to.bindNoCopy(place, static_cast<const void*>(octets.data()), static_cast<int>(octets.size()));
}

void run(SQLite::Statement& statement) {
  const Rewound rewound(statement);
  statement.exec();
}

}  // namespace jembatan::store
