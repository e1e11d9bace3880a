#include "shared/shared_plan.h"

#include <fmt/format.h>

#include "base/text.h"
#include "shared/connection.h"

namespace jembatan::shared {
namespace {

constexpr const char* kChannel = "jembatan_plan";

// What is told means nothing: whoever hears it looks.
class Listening final : public pqxx::notification_receiver {
 public:
  explicit Listening(pqxx::connection_base& connection) : pqxx::notification_receiver(connection, kChannel) {}
  void operator()(const std::string&, int) override {}
};

class PostgresPlan final : public SharedPlan {
 public:
  PostgresPlan(const std::string& database, std::string plan) : at_(database), plan_(std::move(plan)) {}

  Status prepare(const Wish& wish) {
    if (const Status prepared = at_.prepare(wish); !prepared) return prepared;
    listening_ = std::make_unique<Listening>(*at_);
    return {};
  }

  Result<State> state() override {
    return attempt_sql([&]() -> Result<State> {
      pqxx::read_transaction look(*at_);
      State out;
      for (const auto& row :
           look.exec_params("SELECT origin, last_change FROM plan WHERE name = $1", plan_)) {
        row[0].to(out.origin);
        row[1].to(out.change);
      }
      return out;
    });
  }

  Status begin(const std::string& origin, const std::vector<SealedChange>& changes,
               const Member& member) override {
    return attempt_sql([&]() -> Status {
      pqxx::work whole(*at_);
      const auto made = whole.exec_params(
          "INSERT INTO plan (name, origin) VALUES ($1, $2) ON CONFLICT DO NOTHING", plan_, origin);
      if (made.affected_rows() == 0)
        return fail(Errc::conflict, fmt::format("another node began the plan '{}'", escaped(plan_)));
      for (const SealedChange& change : changes) put(whole, change);
      whole.exec_params(
          "INSERT INTO plan_member (plan, node, public_key, wrapped_key, admitted, admitted_by) "
          "VALUES ($1, $2, $3, $4, now(), 'the first')",
          plan_, at_.node(), hex(member.public_key), hex(member.wrapped_key));
      tell(whole);
      whole.commit();
      return {};
    });
  }

  Result<Member> member(OctetView public_key) override {
    return attempt_sql([&]() -> Result<Member> {
      pqxx::work whole(*at_);
      whole.exec_params(
          "INSERT INTO plan_member (plan, node, public_key) VALUES ($1, $2, $3) ON CONFLICT (plan, node) "
          "DO UPDATE SET public_key = $3, wrapped_key = NULL, asked = now() "
          "WHERE plan_member.public_key <> $3",
          plan_, at_.node(), hex(public_key));
      const auto row = whole.exec_params1(std::string(kMembers) + " AND node.number = $2", plan_, at_.node());
      Member out = member_in(row);
      whole.commit();
      return out;
    });
  }

  Result<std::vector<Member>> waiting() override {
    return attempt_sql([&]() -> Result<std::vector<Member>> {
      pqxx::read_transaction look(*at_);
      std::vector<Member> out;
      for (const auto& row : look.exec_params(
               std::string(kMembers) + " AND wrapped_key IS NULL ORDER BY node.name, asked DESC", plan_))
        out.push_back(member_in(row));
      return out;
    });
  }

  Status admit(const Member& member, const std::string& by) override {
    return attempt_sql([&]() -> Status {
      pqxx::work whole(*at_);
      const auto done = whole.exec_params(
          "UPDATE plan_member SET wrapped_key = $3, admitted = now(), admitted_by = $4 "
          "WHERE plan = $1 AND public_key = $2 AND wrapped_key IS NULL",
          plan_, hex(member.public_key), hex(member.wrapped_key), by);
      if (done.affected_rows() == 0)
        return fail(Errc::conflict,
                    fmt::format("node '{}' asks no more, or was let in already", escaped(member.node)));
      tell(whole);
      whole.commit();
      return {};
    });
  }

  Result<std::vector<SealedChange>> changes(std::uint64_t behind, std::size_t most) override {
    return attempt_sql([&]() -> Result<std::vector<SealedChange>> {
      pqxx::read_transaction look(*at_);
      std::vector<SealedChange> out;
      for (const auto& row : look.exec_params(
               "SELECT plan_change.number, author, action, detail, node.name, "
               "(extract(epoch FROM made) * 1000)::bigint, encode(sealed, 'hex') "
               "FROM plan_change JOIN node ON node.number = plan_change.node "
               "WHERE plan = $1 AND plan_change.number > $2 ORDER BY plan_change.number LIMIT $3",
               plan_, behind, most)) {
        SealedChange& change = out.emplace_back();
        row[0].to(change.number);
        row[1].to(change.author);
        row[2].to(change.action);
        row[3].to(change.detail);
        row[4].to(change.node);
        change.made = time_in(row[5]);
        change.sealed = octets_in(row[6]);
      }
      return out;
    });
  }

  Status add(const SealedChange& change) override {
    try {
      pqxx::work whole(*at_);
      const auto moved = whole.exec_params(
          "UPDATE plan SET last_change = $2 WHERE name = $1 AND last_change = $2 - 1", plan_, change.number);
      if (moved.affected_rows() == 0) {
        std::string by;
        for (const auto& row : whole.exec_params(
                 "SELECT author, node.name FROM plan_change JOIN node ON node.number = plan_change.node "
                 "WHERE plan = $1 AND plan_change.number = $2",
                 plan_, change.number))
          by = fmt::format(": {} did, at node {}", row[0].as<std::string>(), row[1].as<std::string>());
        return fail(Errc::conflict,
                    "somebody changed the shared plan at the same time" + by + "; look at it and try again");
      }
      put(whole, change, false);
      tell(whole);
      whole.commit();
      return {};
    } catch (const pqxx::in_doubt_error&) {
      return fail(Errc::unreachable,
                  "the shared database went away while it took the change: if it has it, it will be in force "
                  "here, too, when the database is back (jembatan plan history tells)");
    } catch (const std::exception& problem) {
      return error_of(problem);
    }
  }

  Result<bool> leads() override {
    return attempt_sql([&]() -> Result<bool> {
      pqxx::read_transaction look(*at_);
      return look
          .exec_params1(
              "SELECT coalesce(min(node.number) = $2, false) FROM plan_member "
              "JOIN node ON node.number = plan_member.node WHERE plan = $1 AND wrapped_key IS NOT NULL "
              "AND (seen > now() - interval '15 seconds' OR node.number = $2)",
              plan_, at_.node())[0]
          .as<bool>();
    });
  }

  Status wait(std::chrono::milliseconds at_most) override {
    return attempt_sql([&]() -> Status {
      (*at_).await_notification(at_most.count() / 1000, at_most.count() % 1000 * 1000);
      return {};
    });
  }

  void interrupt() override { at_.interrupt(); }

 private:
  static constexpr const char* kMembers =
      "SELECT node.name, encode(public_key, 'hex'), coalesce(encode(wrapped_key, 'hex'), '') "
      "FROM plan_member JOIN node ON node.number = plan_member.node WHERE plan = $1";

  static Member member_in(const pqxx::row& row) {
    return {row[0].as<std::string>(), octets_in(row[1]), octets_in(row[2])};
  }

  // Throws.
  void put(pqxx::work& whole, const SealedChange& change, bool move_on = true) {
    whole.exec_params(
        "INSERT INTO plan_change (plan, number, node, made, author, action, detail, sealed) "
        "VALUES ($1, $2, $3, $4, $5, $6, $7, $8)",
        plan_, change.number, at_.node(), text_of(change.made), change.author, change.action, change.detail,
        hex(change.sealed));
    if (move_on) whole.exec_params("UPDATE plan SET last_change = $2 WHERE name = $1", plan_, change.number);
  }

  void tell(pqxx::work& whole) const { whole.exec_params("SELECT pg_notify($1, $2)", kChannel, plan_); }

  Connection at_;
  std::string plan_;
  std::unique_ptr<Listening> listening_;  // goes before the connection
};

}  // namespace

Result<std::unique_ptr<SharedPlan>> SharedPlan::open(const Wish& wish, const std::string& plan) {
  return attempt_sql([&]() -> Result<std::unique_ptr<SharedPlan>> {
    auto out = std::make_unique<PostgresPlan>(wish.database, plan);
    if (const Status prepared = out->prepare(wish); !prepared) return prepared.error();
    return std::unique_ptr<SharedPlan>(std::move(out));
  });
}

}  // namespace jembatan::shared
