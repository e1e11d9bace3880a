#include "shared/shared_store.h"

#include <fmt/format.h>
#include <libpq-fe.h>
#include <sys/socket.h>

#include <pqxx/pqxx>
#include <set>

#include "base/text.h"
#include "shared/tables.h"

namespace jembatan::shared {
namespace {

using accounting::Record;

// Of one lock for all nodes: tables and partitions are made by one at a time.
constexpr const char* kLockTables = "SELECT pg_advisory_xact_lock(7254021)";
// A database that is frozen, or a line that is cut without a word, ends a call. What the connection string
// says itself comes behind, and counts.
constexpr const char* kBounds =
    "connect_timeout=5 keepalives_idle=5 keepalives_interval=2 keepalives_count=3 tcp_user_timeout=15000 "
    "application_name=jembatan client_encoding=UTF8";

const std::vector<std::string> kColumns{"day",
                                        "node",
                                        "number",
                                        "received",
                                        "event_time",
                                        "client",
                                        "source",
                                        "nas",
                                        "port",
                                        "status",
                                        "session_id",
                                        "user_name",
                                        "realm",
                                        "calling_station",
                                        "framed_ip",
                                        "session_time_s",
                                        "input_octets",
                                        "output_octets",
                                        "terminate_cause",
                                        "key",
                                        "digest",
                                        "attributes"};

std::string hex(OctetView octets) {
  return "\\x" + to_hex(octets);
}

std::string day_text(WallTime time) {
  return text_of(time).substr(0, 10);
}

// The first line says what it is; the others quote what was asked.
Error error_of(const std::exception& problem) {
  std::string text = problem.what();
  text.resize(std::min(text.size(), text.find('\n')));
  return fail(Errc::unreachable, escaped(text));
}

// What the database thinks of a value, whatever else is the matter (class 22 of SQLSTATE, and 23).
bool is_about_data(const pqxx::sql_error& problem) {
  return problem.sqlstate().starts_with("22") || problem.sqlstate().starts_with("23");
}

template <class Work>
auto attempt_sql(Work work) -> decltype(work()) {
  try {
    return work();
  } catch (const std::exception& problem) {  // libpqxx has several kinds, all of them of the standard's
    return error_of(problem);
  }
}

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

class Postgres final : public SharedStore {
 public:
  explicit Postgres(const std::string& database)
      : connection_(bounded(database)), socket_(connection_.sock()) {}

  Status prepare(const Wish& wish) {
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
    if (made.empty()) {
      whole.exec(kTables);
      whole.exec_params("INSERT INTO tables VALUES ($1)", kTablesVersion);
    } else if (const int version = made[0][0].as<int>(); version > kTablesVersion) {
      return fail(Errc::conflict,
                  fmt::format("its tables are of version {}; this program knows those up to {}", version,
                              kTablesVersion));
    }
    node_ = whole
                .exec_params1(
                    "INSERT INTO node (origin, name) VALUES ($1, $2) "
                    "ON CONFLICT (origin) DO UPDATE SET name = $2, seen = now() RETURNING number",
                    wish.origin, wish.node)[0]
                .as<std::int64_t>();
    whole.commit();
    return {};
  }

  Result<std::int64_t> last() override {
    return attempt_sql([&]() -> Result<std::int64_t> {
      pqxx::read_transaction look(connection_);
      return look.exec_params1("SELECT last_record FROM node WHERE number = $1", node_)[0].as<std::int64_t>();
    });
  }

  Result<std::vector<Refused>> add(std::span<const Record> records) override {
    std::vector<Refused> refused;
    if (records.empty()) return refused;
    try {
      put(records);
      return refused;
    } catch (const pqxx::sql_error& problem) {
      if (!is_about_data(problem)) return error_of(problem);
    } catch (const std::exception& problem) {
      return error_of(problem);
    }
    days_.clear();  // somebody may have dropped the partition of a day
    return attempt_sql([&]() -> Result<std::vector<Refused>> {  // one of them it is: which?
      for (const Record& record : records) {
        try {
          put({&record, 1});
        } catch (const pqxx::sql_error& problem) {
          if (!is_about_data(problem)) throw;
          refused.push_back({record.id, error_of(problem).text});
          pass_over(record.id);
        }
      }
      return refused;
    });
  }

  Status report(const Report& report) override {
    return attempt_sql([&]() -> Status {
      pqxx::work whole(connection_);
      whole.exec_params(
          "UPDATE node SET version = $2, plan_revision = $3, backlog = $4, seen = now() WHERE number = $1",
          node_, report.version, report.revision, report.backlog);
      whole.commit();
      return {};
    });
  }

  Result<std::vector<Node>> nodes() override {
    return attempt_sql([&]() -> Result<std::vector<Node>> {
      pqxx::read_transaction look(connection_);
      std::vector<Node> out;
      for (const auto& row :
           look.exec("SELECT DISTINCT ON (name) number, name, version, plan_revision, backlog, last_record, "
                     "(extract(epoch FROM seen) * 1000)::bigint, extract(epoch FROM now() - seen)::bigint "
                     "FROM node ORDER BY name, number DESC")) {
        Node& node = out.emplace_back();
        row[0].to(node.number);
        row[1].to(node.name);
        row[2].to(node.version);
        row[3].to(node.revision);
        row[4].to(node.backlog);
        row[5].to(node.last_record);
        node.seen = WallTime(std::chrono::milliseconds(row[6].as<std::int64_t>()));
        node.silent = std::chrono::seconds(row[7].as<std::int64_t>());
      }
      return out;
    });
  }

  void interrupt() override { ::shutdown(socket_, SHUT_RDWR); }

 private:
  auto row_of(const Record& record) const {
    return std::make_tuple(day_text(record.received), node_, record.id, text_of(record.received),
                           text_of(record.event_time), record.client, record.source.text(), record.nas,
                           record.port, name_of(record.status), record.session_id, record.user, record.realm,
                           record.calling_station, record.framed_ip, record.session_time, record.input_octets,
                           record.output_octets, record.terminate_cause, hex(record.key), hex(record.digest),
                           hex(record.attributes));
  }

  // Throws.
  void put(std::span<const Record> records) {
    new_days_.clear();
    pqxx::work whole(connection_);
    const auto last =
        whole.exec_params1("SELECT last_record FROM node WHERE number = $1 FOR UPDATE", node_)[0]
            .as<std::int64_t>();
    while (!records.empty() && records.front().id <= last) records = records.subspan(1);
    if (records.empty()) return;
    for (const Record& record : records) make_partition(whole, record.received);
    pqxx::stream_to rows(whole, "record", kColumns);
    for (const Record& record : records) rows << row_of(record);
    rows.complete();
    move_on(whole, records.back().id);
    whole.commit();
    days_.merge(new_days_);
  }

  void pass_over(std::int64_t id) {
    pqxx::work whole(connection_);
    move_on(whole, id);
    whole.commit();
  }

  void move_on(pqxx::work& whole, std::int64_t id) const {
    whole.exec_params("UPDATE node SET last_record = $2 WHERE number = $1", node_, id);
  }

  void make_partition(pqxx::work& whole, WallTime received) {
    const std::string day = day_text(received);
    if (days_.contains(day) || new_days_.contains(day)) return;
    std::string name = "record_" + day;
    std::erase(name, '-');
    whole.exec(kLockTables);
    whole.exec(
        fmt::format("CREATE TABLE IF NOT EXISTS {} PARTITION OF record FOR VALUES FROM ('{}') TO ('{}')",
                    name, day, day_text(received + std::chrono::hours(24))));
    new_days_.insert(day);
  }

  pqxx::connection connection_;
  int socket_;
  std::int64_t node_ = 0;
  std::set<std::string> days_;      // that have a partition
  std::set<std::string> new_days_;  // the same, once this transaction is committed
};

}  // namespace

bool is_connection_string(const std::string& text) {
  PQconninfoOption* const understood = PQconninfoParse(text.c_str(), nullptr);
  PQconninfoFree(understood);
  return understood != nullptr;
}

Result<std::unique_ptr<SharedStore>> SharedStore::open(const Wish& wish) {
  if (!is_connection_string(wish.database))
    return fail(Errc::malformed,
                "the connection string is not understood; it is like postgresql://USER@HOST/DATABASE, or "
                "host=HOST dbname=DATABASE user=USER (PostgreSQL's manual: Connection Strings)");
  return attempt_sql([&]() -> Result<std::unique_ptr<SharedStore>> {
    auto out = std::make_unique<Postgres>(wish.database);
    if (const Status prepared = out->prepare(wish); !prepared) return prepared.error();
    return std::unique_ptr<SharedStore>(std::move(out));
  });
}

}  // namespace jembatan::shared
