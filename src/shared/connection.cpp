#include "shared/connection.h"

#include <fmt/format.h>
#include <libpq-fe.h>
#include <sys/socket.h>

#include "shared/shared_store.h"
#include "shared/tables.h"

namespace jembatan::shared {
namespace {

// A database that is frozen, or a line that is cut without a word, ends a call. What the connection string
// says itself comes behind, and counts.
constexpr const char* kBounds =
    "connect_timeout=5 keepalives_idle=5 keepalives_interval=2 keepalives_count=3 tcp_user_timeout=15000 "
    "application_name=jembatan client_encoding=UTF8";

// "postgresql://…" takes the bounds as its parameters, "host=… dbname=…" as more words before it.
std::string bounded(const std::string& database) {
  if (database.find("://") == std::string::npos) return std::string(kBounds) + " " + database;
  std::string parameters;
  std::string_view rest = kBounds;
  while (!rest.empty()) {
    const std::size_t end = std::min(rest.find(' '), rest.size());
    const std::string_view one = rest.substr(0, end);
    rest.remove_prefix(std::min(end + 1, rest.size()));
    if (database.find(std::string(one.substr(0, one.find('=') + 1))) != std::string::npos) continue;
    parameters += (parameters.empty() ? "" : "&") + std::string(one);
  }
  return database + (database.find('?') == std::string::npos ? "?" : "&") + parameters;
}

}  // namespace

Error error_of(const std::exception& problem) {
  std::string text = problem.what();
  text.resize(std::min(text.size(), text.find('\n')));
  return fail(Errc::unreachable, escaped(text));
}

bool is_about_data(const pqxx::sql_error& problem) {
  return problem.sqlstate().starts_with("22") || problem.sqlstate().starts_with("23");
}

std::string hex(OctetView octets) {
  return "\\x" + to_hex(octets);
}

Octets octets_in(const pqxx::field& field) {
  auto octets = from_hex(field.as<std::string>());
  return octets ? std::move(*octets) : Octets{};
}

void read_octets(const pqxx::field& field, OctetSpan into) {
  const Octets octets = octets_in(field);
  if (octets.size() == into.size()) std::copy(octets.begin(), octets.end(), into.begin());
}

WallTime time_in(const pqxx::field& field) {
  return WallTime(std::chrono::milliseconds(field.as<std::int64_t>()));
}

Connection::Connection(const std::string& database)
    : connection_(bounded(database)), socket_(connection_.sock()) {}

void Connection::interrupt() const {
  ::shutdown(socket_, SHUT_RDWR);
}

Status Connection::prepare(const Wish& wish) {
  pqxx::work whole(connection_);
  whole.exec("SET statement_timeout = '20s'");
  whole.exec("SET LOCAL lock_timeout = '3s'");  // nobody can interrupt this yet
  const std::string encoding = whole.exec1("SHOW server_encoding")[0].as<std::string>();
  if (encoding != "UTF8")
    return fail(Errc::conflict,
                fmt::format("the database keeps texts as {}; one for this has UTF8", encoding));
  whole.exec(kLockTables);
  whole.exec("CREATE SCHEMA IF NOT EXISTS jembatan");
  whole.exec("SET search_path TO jembatan");
  whole.exec("CREATE TABLE IF NOT EXISTS tables (version int NOT NULL)");
  const auto made = whole.exec("SELECT version FROM tables");
  constexpr std::size_t kVersion = std::size(kTables);
  const auto version = made.empty() ? 0 : made[0][0].as<std::size_t>();
  if (version > kVersion)
    return fail(Errc::conflict, fmt::format("its tables are of version {}; this program knows those up to {}",
                                            version, kVersion));
  for (std::size_t step = version; step < kVersion; ++step) whole.exec(kTables[step]);
  if (made.empty()) whole.exec("INSERT INTO tables VALUES (0)");
  if (version < kVersion) whole.exec_params("UPDATE tables SET version = $1", kVersion);
  // Not one INSERT … ON CONFLICT: that would use a number up with each connection, and there are 32,767.
  const auto known = whole.exec_params(
      "UPDATE node SET name = $2, seen = now() WHERE origin = $1 RETURNING number", wish.origin, wish.node);
  const auto row =
      known.empty() ? whole.exec_params1("INSERT INTO node (origin, name) VALUES ($1, $2) RETURNING number",
                                         wish.origin, wish.node)
                    : known[0];
  node_ = row[0].as<std::int64_t>();
  whole.commit();
  return {};
}

bool is_connection_string(const std::string& text) {
  PQconninfoOption* const understood = PQconninfoParse(text.c_str(), nullptr);
  PQconninfoFree(understood);
  return understood != nullptr;
}

}  // namespace jembatan::shared
