#pragma once
// A thin hold on SQLite: errors become Results, statements are kept prepared.
#include <functional>
#include <memory>
#include <string>
#include <string_view>

#include "base/clock.h"
#include "base/octets.h"

struct sqlite3;
struct sqlite3_stmt;

namespace jembatan::store {

/// A prepared statement. Values are bound from 1 and read from 0. One thread at a time.
class Statement {
 public:
  Statement() = default;
  explicit Statement(sqlite3_stmt* statement) : statement_(statement) {}

  Statement& bind(int place, std::int64_t value);
  Statement& bind(int place, std::string_view text);
  Statement& bind(int place, OctetView octets);
  Statement& bind(int place, WallTime time);  ///< in milliseconds, as time() reads it
  Statement& bind_null(int place);
  /// True if there is a row, false at the end.
  Result<bool> step();
  /// Steps once, for statements without rows, and makes it ready to be bound anew.
  Status run();
  void reset();

  std::int64_t integer(int column) const;
  std::string text(int column) const;
  Octets octets(int column) const;
  WallTime time(int column) const;
  bool is_null(int column) const;

 private:
  struct Finalize {
    void operator()(sqlite3_stmt* statement) const;
  };
  std::unique_ptr<sqlite3_stmt, Finalize> statement_;
};

/// What holds for all of SQLite; before anything is opened.
void set_up_sqlite();

class Database {
 public:
  /// Opens or makes a database file.
  ///   errors  Errc::io with the path and the reason
  static Result<Database> open(const std::string& path);
  /// The same, readable by its owner alone, in write-ahead mode: one writes, others may read meanwhile.
  static Result<Database> open_shared(const std::string& path);
  /// For reading alone; the file must be there.
  static Result<Database> open_for_reading(const std::string& path);

  Status run(const std::string& sql);
  /// Runs all of the steps in one transaction, or none of them.
  Status whole(const std::function<Status()>& steps);
  /// Makes the tables, if the file has none yet.
  ///   version  of these tables
  ///   errors   Errc::conflict: the file was made by another version
  Status make_tables(const std::string& tables, std::int64_t version);
  /// The first number that a query gives; 0 if there is none, or it is null.
  Result<std::int64_t> number(std::string_view sql);
  /// Looks whether the file is whole; of a large one, only at its tables.
  ///   errors  Errc::io: what is wrong with it
  Status check_quickly();
  Result<Statement> prepare(std::string_view sql);
  std::int64_t last_row() const;
  std::int64_t changes() const;

 private:
  static Result<Database> open_with(const std::string& path, int flags);
  struct Close {
    void operator()(sqlite3* database) const;
  };
  explicit Database(sqlite3* database) : database_(database) {}
  Error problem() const;
  std::unique_ptr<sqlite3, Close> database_;
};

}  // namespace jembatan::store
