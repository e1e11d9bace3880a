#pragma once
// How the parts of the shared database use libpqxx: where its exceptions become errors, and how one connects.
#include <algorithm>
#include <pqxx/pqxx>

#include "base/clock.h"
#include "base/octets.h"
#include "base/result.h"
#include "base/text.h"

namespace jembatan::shared {

struct Wish;

/// Of one lock for all nodes: tables and partitions are made by one at a time.
inline constexpr const char* kLockTables = "SELECT pg_advisory_xact_lock(7254021)";

/// The first line says what it is; the others quote what was asked.
Error error_of(const std::exception& problem);

/// What the database thinks of a value, whatever else is the matter (class 22 of SQLSTATE, and 23).
bool is_about_data(const pqxx::sql_error& problem);

/// Octets as a parameter; as encode(…, 'hex') gives them; a time, in milliseconds.
std::string hex(OctetView octets);
Octets octets_in(const pqxx::field& field);
WallTime time_in(const pqxx::field& field);
/// Octets of which there are always so many; others are left out.
void read_octets(const pqxx::field& field, OctetSpan into);

/// Runs work; what libpqxx throws (several kinds, all of them of the standard's) is its error.
///   work  returns a Result or a Status
template <class Work>
auto attempt_sql(Work work) -> decltype(work()) {
  try {
    return work();
  } catch (const std::exception& problem) {
    return error_of(problem);
  }
}

/// A connection of one node, by which the tables are those of today.
class Connection {
 public:
  /// Connects. Throws.
  explicit Connection(const std::string& database);
  /// Makes the tables, or those of today out of older ones, and makes the node known. Throws.
  ///   errors  Errc::conflict: a newer version made its tables, or it has no UTF-8
  Status prepare(const Wish& wish);

  pqxx::connection& operator*() { return connection_; }
  /// The node's number in the tables.
  std::int64_t node() const { return node_; }
  /// Ends a call that blocks, with an error. Any thread.
  void interrupt() const;

 private:
  pqxx::connection connection_;
  int socket_;
  std::int64_t node_ = 0;
};

}  // namespace jembatan::shared
