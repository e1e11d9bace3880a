#include "shared/shared_store.h"

#include <fmt/format.h>

#include <set>

#include "accounting/sessions.h"
#include "base/text.h"
#include "shared/connection.h"

namespace jembatan::shared {
namespace {

using accounting::Record;

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

// By name the newest; the plan that it was seen with last.
constexpr const char* kNodes =
    "SELECT DISTINCT ON (name) node.number, name, version, plan_revision, backlog, last_record, "
    "(extract(epoch FROM seen) * 1000)::bigint, extract(epoch FROM now() - seen)::bigint, "
    "(SELECT count(*) FROM waiting WHERE waiting.node = node.number AND taken IS NULL), "
    "coalesce(plan, ''), CASE WHEN wrapped_key IS NULL THEN coalesce(encode(public_key, 'hex'), '') ELSE '' "
    "END "
    "FROM node LEFT JOIN plan_member ON plan_member.node = node.number "
    "ORDER BY name, node.number DESC, asked DESC";

constexpr const char* kArrivals =
    "SELECT number, (extract(epoch FROM received) * 1000)::bigint, "
    "(extract(epoch FROM event_time) * 1000)::bigint, client, host(source), realm, encode(key, 'hex'), "
    "encode(digest, 'hex'), encode(attributes, 'hex') FROM record ";

std::vector<Record> records_in(const pqxx::result& rows) {
  std::vector<Record> out;
  for (const auto& row : rows) {
    accounting::Arrival one;
    row[0].to(one.id);
    one.received = time_in(row[1]);
    one.event_time = time_in(row[2]);
    row[3].to(one.client);
    if (const auto source = IpAddress::parse(row[4].as<std::string>())) one.source = *source;
    row[5].to(one.realm);
    read_octets(row[6], one.key);
    read_octets(row[7], one.digest);
    one.attributes = octets_in(row[8]);
    out.push_back(accounting::taken_apart(std::move(one)));
  }
  return out;
}

std::string day_text(WallTime time) {
  return text_of(time).substr(0, 10);
}

class Postgres final : public SharedStore {
 public:
  explicit Postgres(const std::string& database) : at_(database) {}

  Status prepare(const Wish& wish) { return at_.prepare(wish); }

  Result<std::int64_t> last() override {
    return attempt_sql([&]() -> Result<std::int64_t> {
      pqxx::read_transaction look(*at_);
      return look.exec_params1("SELECT last_record FROM node WHERE number = $1", at_.node())[0]
          .as<std::int64_t>();
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

  Result<std::vector<Other>> others(const std::string& plan) override {
    return attempt_sql([&]() -> Result<std::vector<Other>> {
      pqxx::read_transaction look(*at_);
      std::vector<Other> out;
      for (const auto& row : look.exec_params(
               "SELECT number, last_record FROM node JOIN plan_member ON plan_member.node = node.number "
               "WHERE plan = $1 AND wrapped_key IS NOT NULL AND number <> $2",
               plan, at_.node()))
        out.push_back({row[0].as<std::int64_t>(), row[1].as<std::int64_t>()});
      return out;
    });
  }

  Result<std::vector<Record>> records(std::int64_t node, std::int64_t behind, WallTime from,
                                      std::size_t most) override {
    return attempt_sql([&]() -> Result<std::vector<Record>> {
      pqxx::read_transaction look(*at_);
      return records_in(look.exec_params(
          std::string(kArrivals) + "WHERE node = $1 AND number > $2 AND day >= $3 ORDER BY number LIMIT $4",
          node, behind, day_text(from - std::chrono::hours(24)), most));
    });
  }

  Result<std::int64_t> last_before(std::int64_t node, WallTime then) override {
    return attempt_sql([&]() -> Result<std::int64_t> {
      pqxx::read_transaction look(*at_);
      return look
          .exec_params1(
              "SELECT coalesce((SELECT min(number) - 1 FROM record WHERE node = $1 AND day >= $2 AND "
              "received >= $3), (SELECT last_record FROM node WHERE number = $1), 0)",
              node, day_text(then), text_of(then))[0]
          .as<std::int64_t>();
    });
  }

  Result<std::vector<Record>> records_of(const accounting::Session& session) override {
    return attempt_sql([&]() -> Result<std::vector<Record>> {
      pqxx::read_transaction look(*at_);
      auto out = records_in(look.exec_params(
          std::string(kArrivals) +
              "WHERE session_id = $1 AND nas = $2 AND day >= $3 ORDER BY received, number LIMIT 1000",
          session.session_id, session.nas, day_text(session.started - std::chrono::hours(24))));
      std::erase_if(out, [&](const Record& record) { return !accounting::belongs(session, record); });
      return out;
    });
  }

  Status report(const Report& report) override {
    return attempt_sql([&]() -> Status {
      pqxx::work whole(*at_);
      whole.exec_params(
          "UPDATE node SET version = $2, plan_revision = $3, backlog = $4, seen = now() WHERE number = $1",
          at_.node(), report.version, report.revision, report.backlog);
      whole.commit();
      return {};
    });
  }

  Result<std::vector<Node>> nodes() override {
    return attempt_sql([&]() -> Result<std::vector<Node>> {
      pqxx::read_transaction look(*at_);
      std::vector<Node> out;
      for (const auto& row : look.exec(kNodes)) {
        Node& node = out.emplace_back();
        row[0].to(node.number);
        row[1].to(node.name);
        row[2].to(node.version);
        row[3].to(node.revision);
        row[4].to(node.backlog);
        row[5].to(node.last_record);
        node.seen = time_in(row[6]);
        node.silent = std::chrono::seconds(row[7].as<std::int64_t>());
        row[8].to(node.waiting);
        row[9].to(node.plan);
        node.waits_with = octets_in(row[10]);
      }
      return out;
    });
  }

  void interrupt() override { at_.interrupt(); }

 private:
  auto row_of(const Record& record) const {
    return std::make_tuple(day_text(record.received), at_.node(), record.id, text_of(record.received),
                           text_of(record.event_time), record.client, record.source.text(), record.nas,
                           record.port, name_of(record.status), record.session_id, record.user, record.realm,
                           record.calling_station, record.framed_ip, record.session_time, record.input_octets,
                           record.output_octets, record.terminate_cause, hex(record.key), hex(record.digest),
                           hex(record.attributes));
  }

  // Throws.
  void put(std::span<const Record> records) {
    new_days_.clear();
    pqxx::work whole(*at_);
    const auto last =
        whole.exec_params1("SELECT last_record FROM node WHERE number = $1 FOR UPDATE", at_.node())[0]
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
    pqxx::work whole(*at_);
    move_on(whole, id);
    whole.commit();
  }

  void move_on(pqxx::work& whole, std::int64_t id) const {
    whole.exec_params("UPDATE node SET last_record = $2 WHERE number = $1", at_.node(), id);
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

  Connection at_;
  std::set<std::string> days_;      // that have a partition
  std::set<std::string> new_days_;  // the same, once this transaction is committed
};

}  // namespace

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
