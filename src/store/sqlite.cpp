#include "store/sqlite.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

#include <filesystem>

namespace jembatan::store {
namespace {

constexpr int kBusyTimeoutMs = 5000;

Error problem_of(sqlite3* database) {
  std::string text = fmt::format("store: {}", sqlite3_errmsg(database));
  if (sqlite3_errcode(database) == SQLITE_FULL) {
    const char* file = sqlite3_db_filename(database, "main");
    const auto folder = std::filesystem::path(file == nullptr ? "" : file).parent_path();
    std::error_code failed;
    const auto space = std::filesystem::space(folder, failed);
    text += fmt::format(": make room in folder '{}'", folder.string());
    if (!failed) text += fmt::format(", where {} KiB are free", space.available >> 10U);
  }
  return fail(Errc::io, std::move(text));
}

}  // namespace

void Statement::Finalize::operator()(sqlite3_stmt* statement) const {
  sqlite3_finalize(statement);
}
void Database::Close::operator()(sqlite3* database) const {
  sqlite3_close_v2(database);
}

Statement& Statement::bind(int place, std::int64_t value) {
  sqlite3_bind_int64(statement_.get(), place, value);
  return *this;
}

Statement& Statement::bind(int place, std::string_view text) {
  // The destructor value SQLITE_TRANSIENT (-1) makes SQLite copy; its macro needs a C-style cast.
  const auto copy = reinterpret_cast<sqlite3_destructor_type>(-1);
  sqlite3_bind_text(statement_.get(), place, text.data(), static_cast<int>(text.size()), copy);
  return *this;
}

Statement& Statement::bind(int place, OctetView octets) {
  const auto copy = reinterpret_cast<sqlite3_destructor_type>(-1);
  sqlite3_bind_blob(statement_.get(), place, octets.data(), static_cast<int>(octets.size()), copy);
  return *this;
}

Statement& Statement::bind(int place, WallTime time) {
  return bind(
      place,
      std::int64_t{std::chrono::duration_cast<std::chrono::milliseconds>(time.time_since_epoch()).count()});
}

Statement& Statement::bind_null(int place) {
  sqlite3_bind_null(statement_.get(), place);
  return *this;
}

Result<bool> Statement::step() {
  const int result = sqlite3_step(statement_.get());
  if (result == SQLITE_ROW) return true;
  if (result == SQLITE_DONE) return false;
  return problem_of(sqlite3_db_handle(statement_.get()));
}

Status Statement::run() {
  const auto stepped = step();
  reset();
  if (!stepped) return stepped.error();
  return {};
}

void Statement::reset() {
  sqlite3_reset(statement_.get());
}

std::int64_t Statement::integer(int column) const {
  return sqlite3_column_int64(statement_.get(), column);
}

std::string Statement::text(int column) const {
  const auto* text = reinterpret_cast<const char*>(sqlite3_column_text(statement_.get(), column));
  return text == nullptr
             ? ""
             : std::string(text, static_cast<std::size_t>(sqlite3_column_bytes(statement_.get(), column)));
}

Octets Statement::octets(int column) const {
  const auto* octets = static_cast<const std::uint8_t*>(sqlite3_column_blob(statement_.get(), column));
  return octets == nullptr ? Octets{}
                           : Octets(octets, octets + sqlite3_column_bytes(statement_.get(), column));
}

WallTime Statement::time(int column) const {
  return WallTime(std::chrono::milliseconds(integer(column)));
}

bool Statement::is_null(int column) const {
  return sqlite3_column_type(statement_.get(), column) == SQLITE_NULL;
}

void set_up_sqlite() {
  static const int done = sqlite3_config(SQLITE_CONFIG_MEMSTATUS, 0);  // counting takes a lock each time
  (void)done;
}

Result<Database> Database::open_with(const std::string& path, int flags) {
  set_up_sqlite();
  sqlite3* raw = nullptr;
  const int opened = sqlite3_open_v2(path.c_str(), &raw, flags | SQLITE_OPEN_NOMUTEX, nullptr);
  Database out(raw);
  if (opened != SQLITE_OK) {
    return fail(Errc::io,
                fmt::format("store '{}': {}", path, raw == nullptr ? "out of memory" : sqlite3_errmsg(raw)));
  }
  sqlite3_busy_timeout(raw, kBusyTimeoutMs);
  return out;
}

Result<Database> Database::open(const std::string& path) {
  return open_with(path, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE);
}

Result<Database> Database::open_for_reading(const std::string& path) {
  return open_with(path, SQLITE_OPEN_READONLY);
}

Result<Database> Database::open_shared(const std::string& path) {
  // Made here with its owner's rights alone; SQLite gives the files beside it the same ones.
  const int made = ::open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
  if (made >= 0) ::close(made);
  auto database = open(path);
  if (!database) return database;
  if (const Status shared = database->run("PRAGMA journal_mode = WAL"); !shared)
    return shared.error().at(path);
  return database;
}

Status Database::whole(const std::function<Status()>& steps) {
  if (Status s = run("BEGIN IMMEDIATE"); !s) return s;
  Status done = steps();
  if (done) done = run("COMMIT");
  if (!done) (void)run("ROLLBACK");
  return done;
}

Status Database::make_tables(const std::string& tables, std::int64_t version) {
  return whole([&]() -> Status {
    const auto found = number("PRAGMA user_version");
    if (!found) return found.error();
    if (*found == version) return {};
    if (*found != 0)
      return fail(Errc::conflict, fmt::format("made by {} version (tables {}, known {})",
                                              *found > version ? "a newer" : "an older", *found, version));
    const Status made = run(tables);
    return made ? run(fmt::format("PRAGMA user_version = {}", version)) : made;
  });
}

Status Database::check_quickly() {
  constexpr std::int64_t kLarge = 64 << 20;
  const auto pages = number("PRAGMA page_count");
  if (!pages) return pages.error();
  if (*pages * 4096 > kLarge) {
    const auto tables = number("SELECT count(*) FROM sqlite_schema");
    return tables ? Status{} : Status{tables.error()};
  }
  auto check = prepare("PRAGMA quick_check(1)");
  if (!check) return check.error();
  const auto row = check->step();
  if (!row) return row.error();
  if (!*row || check->text(0) == "ok") return {};
  return fail(Errc::io, fmt::format("the file is damaged ({}): restore it from a backup", check->text(0)));
}

Result<std::int64_t> Database::number(std::string_view sql) {
  auto statement = prepare(sql);
  if (!statement) return statement.error();
  const auto row = statement->step();
  if (!row) return row.error();
  return *row ? statement->integer(0) : 0;
}

Error Database::problem() const {
  return problem_of(database_.get());
}

Status Database::run(const std::string& sql) {
  if (sqlite3_exec(database_.get(), sql.c_str(), nullptr, nullptr, nullptr) == SQLITE_OK) return {};
  return problem();
}

Result<Statement> Database::prepare(std::string_view sql) {
  sqlite3_stmt* raw = nullptr;
  const int size = static_cast<int>(sql.size());
  if (sqlite3_prepare_v3(database_.get(), sql.data(), size, SQLITE_PREPARE_PERSISTENT, &raw, nullptr) !=
      SQLITE_OK) {
    return problem();
  }
  return Statement(raw);
}

std::int64_t Database::last_row() const {
  return sqlite3_last_insert_rowid(database_.get());
}
std::int64_t Database::changes() const {
  return sqlite3_changes64(database_.get());
}

}  // namespace jembatan::store
