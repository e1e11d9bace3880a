#pragma once
#include <functional>
#include <vector>

#include "base/owner.h"
#include "engine/actions.h"
#include "forward/identifiers.h"
#include "forward/live_plan.h"
#include "wire/packet.h"

namespace jembatan::engine {

/// A question of the node's own to a server.
struct ProbeQuestion {
  std::size_t group = 0;   ///< place in the plan
  std::size_t server = 0;  ///< place in the group
  forward::Purpose purpose{};
  std::string user = {};  ///< a sign-in; empty: Status-Server (RFC 5997)
  Secret password = {};
};

/// What came of it.
struct ProbeResult {
  bool answered = false;  ///< genuinely
  wire::Code code{};      ///< of the answer
  std::chrono::microseconds took{0};
  std::string_view problem = {};  ///< of an answer that is not genuine; a literal
};

/// Finds out whether servers live, by questions of the node's own: those of groups with a probe every so
/// often, and at once when one was silent; others when somebody asks. Belongs to one thread.
class Probing {
 public:
  using Done = std::function<void(const ProbeResult&, const Turn&)>;
  ///   name  of the node: NAS-Identifier of what it sends
  Probing(Random& random, std::string name) : random_(random), name_(std::move(name)) {}

  void use(forward::LivePlanPtr live, TimePoint now);
  /// Some server with a probe was silent: it is asked now.
  void look(const Turn& turn);
  /// Asks once; `done` is called when there is an answer, or when the group's answer_within is over.
  ///   errors  Errc::busy: too many questions are under way at that server
  Status ask(const ProbeQuestion& question, const Turn& turn, Done done);
  void on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn);
  void on_timer(const Turn& turn);
  std::optional<TimePoint> next_deadline() const;
  /// Forgets what is under way; nothing is told of it.
  void stop() { exchanges_.clear(); }

 private:
  /// A server that is probed.
  struct Target {
    std::size_t group = 0;
    std::size_t server = 0;
    forward::Purpose purpose{};
    TimePoint next;
    bool under_way = false;
  };
  /// A question under way.
  struct Exchange {
    forward::LivePlanPtr live;  ///< keeps `server` alive
    const plan::Server* server = nullptr;
    forward::HealthPtr health;
    forward::Purpose purpose{};
    Endpoint at;
    forward::ExchangeId id;
    wire::Authenticator authenticator{};
    TimePoint asked;
    TimePoint deadline;
    std::string_view problem;
    Done done;
  };
  Status build(const ProbeQuestion& question, Exchange& exchange, Actions& out);
  void probe(Target& target, const Turn& turn);
  void probed(const Target& target, const ProbeResult& result, const Turn& turn);
  const forward::HealthPtr& health_of(const Target& target) const {
    return live_->health_of(target.group, target.purpose)[target.server];
  }
  TimePoint next_of(const Target& target, TimePoint now);
  void end(std::size_t exchange, const ProbeResult& result, const Turn& turn);

  Owner owner_;
  Random& random_;
  std::string name_;
  forward::LivePlanPtr live_;
  std::vector<Target> targets_;
  std::vector<Exchange> exchanges_;
  forward::Identifiers identifiers_;
};

}  // namespace jembatan::engine
