#include "store/salvage.h"

#include <SQLiteCpp/Transaction.h>
#include <fmt/format.h>

namespace jembatan::store {
namespace {

namespace fs = std::filesystem;

constexpr std::uintmax_t kClosely = std::uintmax_t{256} << 20U;  // takes about a second
constexpr const char* kBeside[] = {"", "-wal", "-shm"};

fs::path with(const fs::path& file, std::string_view ending) {
  return file.string() + std::string(ending);
}

std::string damage_of(const fs::path& file) {
  std::error_code failed;
  try {
    SQLite::Database database = open_to_read(file);
    (void)number_of(database, "SELECT count(*) FROM sqlite_schema");
    if (fs::file_size(file, failed) > kClosely) return {};
    SQLite::Statement check(database, "PRAGMA quick_check(1)");
    if (!check.executeStep()) return {};
    const std::string said = text_in(check.getColumn(0));
    return said == "ok" ? "" : said;
  } catch (const SQLite::Exception& problem) {
    return problem.what();
  }
}

void bind_column(SQLite::Statement& to, int place, const SQLite::Column& column) {
  if (column.isNull()) {
    to.bind(place);
  } else if (column.isInteger()) {
    to.bind(place, column.getInt64());
  } else if (column.isBlob()) {
    bind_value(to, place, OctetView(octets_in(column)));
  } else {
    bind_value(to, place, std::string_view(text_in(column)));
  }
}

// The rows that a query gives, until one cannot be read, or is there already.
std::uint64_t copy(SQLite::Database& from, const std::string& query, SQLite::Database& to,
                   const std::string& table) {
  std::uint64_t out = 0;
  std::optional<SQLite::Statement> rows;
  const auto next = [&]() -> bool {
    try {
      if (!rows) rows.emplace(from, query);
      return rows->executeStep();
    } catch (const SQLite::Exception&) {
      return false;  // what is behind this cannot be read
    }
  };
  if (!next()) return 0;
  std::string places = "?";
  for (int i = 1; i < rows->getColumnCount(); ++i) places += ", ?";
  SQLite::Statement insert(to, fmt::format("INSERT OR IGNORE INTO {} VALUES ({})", table, places));
  do {
    for (int i = 0; i < rows->getColumnCount(); ++i) bind_column(insert, i + 1, rows->getColumn(i));
    const int added = insert.exec();
    insert.reset();
    if (added == 0) break;
    ++out;
  } while (next());
  return out;
}

std::uint64_t copy(SQLite::Database& from, SQLite::Database& to, const Contents::Table& table) {
  const std::string all = "SELECT * FROM " + table.name;
  if (table.order.empty()) {
    to.exec("SAVEPOINT one; DELETE FROM " + table.name);
    const std::uint64_t rows = copy(from, all + " LIMIT 1", to, table.name);
    to.exec(rows == 0 ? "ROLLBACK TO one; RELEASE one" : "RELEASE one");
    return rows;
  }
  std::string backwards;
  for (const char c : table.order + ",") backwards += c == ',' ? std::string(" DESC,") : std::string(1, c);
  backwards.pop_back();
  return copy(from, all + " ORDER BY " + table.order, to, table.name) +
         copy(from, all + " ORDER BY " + backwards, to, table.name);
}

std::uint64_t copy_all(const fs::path& damaged, const fs::path& fresh, const Contents& contents) {
  SQLite::Database to = open_to_write(fresh);
  if (const Status made = make_tables(to, contents.tables, contents.version); !made)
    throw SQLite::Exception(made.error().text);
  std::uint64_t out = 0;
  std::optional<SQLite::Database> from;
  try {
    from.emplace(open_to_read(damaged));
  } catch (const SQLite::Exception&) {
    return 0;
  }
  SQLite::Transaction whole(to);
  for (const Contents::Table& table : contents.read) out += copy(*from, to, table);
  whole.commit();
  to.exec("PRAGMA wal_checkpoint(TRUNCATE)");
  return out;
}

fs::path free_name(const fs::path& file) {
  for (int i = 1;; ++i) {
    fs::path out = with(file, fmt::format(".damaged-{}", i));
    if (!fs::exists(out)) return out;
  }
}

}  // namespace

void finish_mending(const fs::path& file) {
  std::error_code failed;
  if (fs::exists(file, failed) || !fs::exists(with(file, kMendedEnding), failed)) return;
  for (const char* beside : {"-wal", "-shm"}) fs::remove(with(file, beside), failed);  // the damaged one's
  fs::rename(with(file, kMendedEnding), file, failed);
}

std::optional<Mended> mend(const fs::path& file, const Contents& contents) {
  std::error_code failed;
  finish_mending(file);
  if (!fs::exists(file, failed)) return std::nullopt;
  std::string why = damage_of(file);
  if (why.empty()) return std::nullopt;
  const fs::path fresh = with(file, kMendedEnding);
  for (const char* beside : kBeside) fs::remove(with(fresh, beside), failed);
  Mended out{file, free_name(file), std::move(why), 0};
  out.rows = copy_all(file, fresh, contents);
  for (const char* beside : kBeside) {
    const fs::path one = with(file, beside);
    if (fs::exists(one, failed)) fs::rename(one, with(out.set_aside, beside), failed);
  }
  fs::rename(fresh, file, failed);
  if (failed) throw SQLite::Exception(file.string() + ": " + failed.message());
  return out;
}

}  // namespace jembatan::store
