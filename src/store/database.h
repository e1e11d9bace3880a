#pragma once
// How the stores use SQLite: where its exceptions become errors, how files are opened, times and octets in
// rows.
#include <SQLiteCpp/Database.h>
#include <SQLiteCpp/Exception.h>
#include <SQLiteCpp/Statement.h>

#include <filesystem>
#include <string>
#include <string_view>
#include <vector>

#include "base/clock.h"
#include "base/octets.h"

namespace jembatan::store {

/// What SQLite's exception means; where the disk is full, how much room is in the folder.
Error error_of(const SQLite::Exception& problem, const std::filesystem::path& folder);

/// Runs work with databases of a folder; what SQLite throws is its error.
///   work  returns a Result or a Status
template <class Work>
auto attempt(const std::filesystem::path& folder, Work work) -> decltype(work()) {
  try {
    return work();
  } catch (const SQLite::Exception& problem) {
    return error_of(problem, folder);
  }
}

/// Opens or makes a database file, readable by its owner alone, in write-ahead mode: one writes, others may
/// read meanwhile. Throws.
SQLite::Database open_to_write(const std::filesystem::path& file);
/// For reading alone; the file must be there. Throws.
SQLite::Database open_to_read(const std::filesystem::path& file);

/// Makes the tables, in one transaction, if the file has none yet.
///   version  of these tables
///   errors   Errc::conflict: the file was made by another version
Status make_tables(SQLite::Database& database, const std::string& tables, std::int64_t version);

/// The first number that a query gives; 0 if there is none, or it is null.
std::int64_t number_of(SQLite::Database& database, const std::string& sql);

/// Since 1970, as rows have times.
std::int64_t milliseconds_of(WallTime time);
WallTime time_in(const SQLite::Column& column);
Octets octets_in(const SQLite::Column& column);
std::string text_in(const SQLite::Column& column);
/// Binds a value at a place, from 1 on; texts and octets are copied, times are in milliseconds.
void bind_value(SQLite::Statement& to, int place, std::int64_t value);
void bind_value(SQLite::Statement& to, int place, std::string_view text);
void bind_value(SQLite::Statement& to, int place, OctetView octets);
void bind_value(SQLite::Statement& to, int place, WallTime time);
/// Binds all of them, from place 1 on.
template <class... Values>
void bind_all(SQLite::Statement& to, const Values&... values) {
  int place = 1;
  (bind_value(to, place++, values), ...);
}
/// Binds octets that live until the statement has been run.
void bind_octets(SQLite::Statement& to, int place, OctetView octets);
/// Runs a statement without rows, and makes it ready to be bound anew.
void run(SQLite::Statement& statement);

/// Resets a statement that is kept prepared when its rows have been read.
class Rewound {
 public:
  explicit Rewound(SQLite::Statement& statement) : statement_(statement) {}
  ~Rewound() { statement_.tryReset(); }
  Rewound(const Rewound&) = delete;
  Rewound& operator=(const Rewound&) = delete;

 private:
  SQLite::Statement& statement_;
};

/// What `read` makes of each row.
template <class Read>
auto all_rows(SQLite::Statement& statement, Read read) -> std::vector<decltype(read(statement))> {
  std::vector<decltype(read(statement))> out;
  while (statement.executeStep()) out.push_back(read(statement));
  return out;
}

}  // namespace jembatan::store
