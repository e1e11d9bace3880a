#include "shared/shared_queue.h"

#include <fmt/format.h>

#include <map>

#include "base/text.h"
#include "shared/connection.h"
#include "wire/packet.h"

namespace jembatan::shared {
namespace {

using accounting::Arrival;

const std::vector<std::string> kWaitingColumns{"node",       "to_group", "number",    "received",
                                               "event_time", "client",   "source",    "realm",
                                               "key",        "digest",   "attributes"};

// The node's row is locked, so that a node that comes back at that moment is there before the claim, and
// keeps its records, or behind it, and sees it.
constexpr const char* kClaim = R"(
WITH free AS (
  SELECT waiting.node, waiting.to_group, waiting.number FROM waiting
    JOIN node ON node.number = waiting.node
    JOIN plan_member ON plan_member.node = node.number AND plan = $1 AND wrapped_key IS NOT NULL
   WHERE waiting.node <> $2 AND seen < now() - make_interval(secs => $3) AND taken IS NULL
     AND (claimed_until IS NULL OR claimed_until < now())
     AND EXISTS (SELECT 1 FROM plan_member WHERE plan = $1 AND node = $2 AND wrapped_key IS NOT NULL)
     AND octet_length(attributes) <= $6
   ORDER BY waiting.node, waiting.to_group, waiting.number LIMIT $4 FOR SHARE OF node FOR UPDATE OF waiting SKIP LOCKED)
UPDATE waiting SET claimed_by = $2, claimed_until = now() + make_interval(secs => $5)
  FROM free JOIN node ON node.number = free.node
 WHERE waiting.node = free.node AND waiting.to_group = free.to_group AND waiting.number = free.number
RETURNING waiting.node, node.name, encode(waiting.to_group, 'hex'), waiting.number,
  (extract(epoch FROM received) * 1000)::bigint, (extract(epoch FROM event_time) * 1000)::bigint,
  encode(client, 'hex'), host(source), encode(realm, 'hex'), encode(key, 'hex'), encode(digest, 'hex'),
  encode(attributes, 'hex'))";

std::string hex_of(const std::string& text) {
  return hex(view_of(text));
}

std::string text_from(const pqxx::field& field) {
  const Octets octets = octets_in(field);
  return std::string(text_of(octets));
}

/// Numbers as a parameter, by what they belong to: "{3,4,17}".
template <class One, class Part>
auto numbers_of(std::span<const One> all, Part part) {
  std::map<decltype(part(all.front()).first), std::string> out;
  for (const One& one : all) {
    const auto [whole, number] = part(one);
    std::string& numbers = out[whole];
    numbers += fmt::format("{}{}", numbers.empty() ? "{" : ",", number);
  }
  for (auto& [whole, numbers] : out) numbers += '}';
  return out;
}

SharedQueue::Claimed claimed_in(const pqxx::row& row) {
  SharedQueue::Claimed out;
  row[0].to(out.node);
  row[1].to(out.name);
  out.group = text_from(row[2]);
  Arrival& arrival = out.arrival;
  row[3].to(arrival.id);
  arrival.received = time_in(row[4]);
  arrival.event_time = time_in(row[5]);
  arrival.client = text_from(row[6]);
  if (const auto source = IpAddress::parse(row[7].as<std::string>())) arrival.source = *source;
  arrival.realm = text_from(row[8]);
  read_octets(row[9], arrival.key);
  read_octets(row[10], arrival.digest);
  arrival.attributes = octets_in(row[11]);
  return out;
}

class PostgresQueue final : public SharedQueue {
 public:
  PostgresQueue(const std::string& database, std::string plan) : at_(database), plan_(std::move(plan)) {}

  Status prepare(const Wish& wish) {
    if (const Status prepared = at_.prepare(wish); !prepared) return prepared;
    return run([](pqxx::work& whole) {
      whole.exec("CREATE TEMPORARY TABLE coming (LIKE waiting) ON COMMIT DELETE ROWS");
    });
  }

  Status renew() override {
    return run([&](pqxx::work& whole) {
      whole.exec_params("UPDATE node SET seen = now() WHERE number = $1", at_.node());
    });
  }

  Status put_up(const std::string& group, std::span<const Arrival> records) override {
    return run([&](pqxx::work& whole) {
      pqxx::stream_to rows(whole, "coming", kWaitingColumns);
      for (const Arrival& one : records)
        rows << std::make_tuple(at_.node(), hex_of(group), one.id, text_of(one.received),
                                text_of(one.event_time), hex_of(one.client), one.source.text(),
                                hex_of(one.realm), hex(one.key), hex(one.digest), hex(one.attributes));
      rows.complete();
      whole.exec("INSERT INTO waiting SELECT * FROM coming ON CONFLICT DO NOTHING");
    });
  }

  Status take_down(const std::string& group, std::optional<std::int64_t> below) override {
    return run([&](pqxx::work& whole) {
      whole.exec_params(
          "DELETE FROM waiting WHERE node = $1 AND to_group = $2 AND number < $3 AND taken IS NULL "
          "AND (claimed_until IS NULL OR claimed_until < now())",
          at_.node(), hex_of(group), below.value_or(std::numeric_limits<std::int64_t>::max()));
    });
  }

  Result<std::vector<std::string>> groups() override {
    return attempt_sql([&]() -> Result<std::vector<std::string>> {
      pqxx::read_transaction look(*at_);
      std::vector<std::string> out;
      for (const auto& row : look.exec_params(
               "SELECT DISTINCT encode(to_group, 'hex') FROM waiting WHERE node = $1 AND taken IS NULL",
               at_.node()))
        out.push_back(text_from(row[0]));
      return out;
    });
  }

  Result<Loss> handed_over(std::size_t most) override {
    return attempt_sql([&]() -> Result<Loss> {
      pqxx::read_transaction look(*at_);
      Loss out;
      for (const auto& row : look.exec_params(
               "SELECT waiting.number, encode(to_group, 'hex'), encode(digest, 'hex'), node.name, "
               "(extract(epoch FROM taken) * 1000)::bigint FROM waiting "
               "JOIN node ON node.number = claimed_by WHERE waiting.node = $1 AND taken IS NOT NULL LIMIT $2",
               at_.node(), most)) {
        HandedOver& one = out.records.emplace_back();
        row[0].to(one.id);
        one.group = text_from(row[1]);
        read_octets(row[2], one.digest);
        row[3].to(one.node);
        one.at = time_in(row[4]);
      }
      const bool claimed =
          look.exec_params1(
                  "SELECT EXISTS (SELECT 1 FROM waiting WHERE node = $1 AND taken IS NULL AND "
                  "claimed_until >= now())",
                  at_.node())[0]
              .as<bool>();
      out.settled = !claimed && out.records.size() < most;
      return out;
    });
  }

  Status forget(std::span<const HandedOver> records) override {
    return run([&](pqxx::work& whole) {
      for (const auto& [group, numbers] :
           numbers_of(records, [](const HandedOver& one) { return std::pair(one.group, one.id); }))
        whole.exec_params(
            "DELETE FROM waiting WHERE node = $1 AND to_group = $2 AND number = ANY ($3::bigint[])",
            at_.node(), hex_of(group), numbers);
    });
  }

  Result<std::vector<Claimed>> claim(std::chrono::seconds silence, std::size_t most) override {
    return attempt_sql([&]() -> Result<std::vector<Claimed>> {
      pqxx::work whole(*at_);
      std::vector<Claimed> out;
      for (const auto& row : whole.exec_params(kClaim, plan_, at_.node(), silence.count(), most,
                                               kClaimFor.count(), wire::kMaxPacket))
        out.push_back(claimed_in(row));
      whole.commit();
      std::sort(out.begin(), out.end(), [](const Claimed& a, const Claimed& b) {
        return std::tie(a.node, a.arrival.id) < std::tie(b.node, b.arrival.id);
      });
      return out;
    });
  }

  // What they say is the other node's to keep, not the database's any more.
  Status keep(std::span<const Claimed> records) override {
    return run([&](pqxx::work& whole) {
      for (const auto& [from, numbers] : numbers_of(records, [](const Claimed& one) {
             return std::pair(std::pair(one.node, one.group), one.arrival.id);
           }))
        whole.exec_params(
            "UPDATE waiting SET taken = now(), attributes = '' WHERE node = $1 AND to_group = $2 AND "
            "number = ANY ($3::bigint[]) AND claimed_by = $4",
            from.first, hex_of(from.second), numbers, at_.node());
    });
  }

  void interrupt() override { at_.interrupt(); }

 private:
  template <class Work>
  Status run(Work work) {
    return attempt_sql([&]() -> Status {
      pqxx::work whole(*at_);
      work(whole);
      whole.commit();
      return {};
    });
  }

  Connection at_;
  std::string plan_;
};

}  // namespace

Result<std::unique_ptr<SharedQueue>> SharedQueue::open(const Wish& wish, const std::string& plan) {
  return attempt_sql([&]() -> Result<std::unique_ptr<SharedQueue>> {
    auto out = std::make_unique<PostgresQueue>(wish.database, plan);
    if (const Status prepared = out->prepare(wish); !prepared) return prepared.error();
    return std::unique_ptr<SharedQueue>(std::move(out));
  });
}

}  // namespace jembatan::shared
