#pragma once
// How the stores use SQLite: where its exceptions become errors, how files are opened, times and octets in
// rows.
#include <SQLiteCpp/Database.h>
#include <SQLiteCpp/Exception.h>
#include <SQLiteCpp/Statement.h>

#include <filesystem>
#include <string>

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
/// read meanwhile. Throws, as what follows does.
SQLite::Database open_to_write(const std::filesystem::path& file);
SQLite::Database open_to_read(const std::filesystem::path& file);

/// Looks whether the file is whole; of a large one, only at its tables.
///   errors  Errc::io: what is wrong with it
Status check_quickly(SQLite::Database& database);

/// The first number that a query gives; 0 if there is none, or it is null.
std::int64_t number_of(SQLite::Database& database, const std::string& sql);

std::int64_t milliseconds_of(WallTime time);
WallTime time_in(const SQLite::Column& column);
Octets octets_in(const SQLite::Column& column);
std::string text_in(const SQLite::Column& column);
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

}  // namespace jembatan::store
