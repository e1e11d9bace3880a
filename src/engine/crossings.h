#pragma once
#include <deque>
#include <map>
#include <queue>

#include "base/owner.h"
#include "base/slots.h"
#include "engine/actions.h"
#include "forward/forwarding.h"
#include "forward/identifiers.h"
#include "forward/live_plan.h"
#include "wire/builder.h"

namespace jembatan::engine {

/// A packet to a server.
struct Asking {
  std::size_t server = 0;  ///< place in the group
  bool again = false;      ///< the same as before
  std::uint64_t leg = 0;   ///< wire::leg_of the packet
};

/// Writes the attributes of a request for a server; called again for each server that is asked.
class Composer {
 public:
  virtual ~Composer() = default;
  /// Adds everything but Message-Authenticator, which stands first already.
  ///   owner          as given to Crossings::start
  ///   authenticator  Request Authenticator of the new packet: passwords are hidden with it
  virtual Status compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                         wire::PacketBuilder& out) = 0;
  /// The packet is on its way.
  virtual void asked(Ticket owner, const Asking& what, Now now);
};

/// All requests of one thread that wait for the answer of another server: builds and signs them, sends them
/// again or to the next server, checks the replies. Access and accounting alike.
class Crossings {
 public:
  /// A genuine reply; `reply` lives as long as the octets it came in.
  struct Arrived {
    Ticket owner;
    forward::LivePlanPtr live;  ///< keeps `server` alive
    const plan::Server* server = nullptr;
    std::string server_name;      ///< "GROUP/SERVER"
    wire::Authenticator request;  ///< the Request Authenticator that the server was asked with
    wire::PacketView reply;
  };
  /// No server answered.
  struct GivenUp {
    Ticket owner;
    std::string why;
  };

  /// Which group is to be asked, and what for.
  struct Errand {
    forward::LivePlanPtr live;
    std::size_t group = 0;  ///< place in the plan: of its groups, or for authorization of its devices
    wire::Code code{};      ///< of the request
    const plan::Client* on_behalf_of =
        nullptr;  ///< of that plan; null: of nobody that must not hold too much
    forward::Asker asker = {};
    TimePoint until = TimePoint::max();  ///< it is given up then at the latest
    std::optional<IpAddress> at = {};    ///< asked there, instead of where the plan says
    forward::Purpose purpose() const { return forward::purpose_of(code); }
    const plan::Group& asked_group() const { return *live->asked_of(group, purpose()).group; }
    const std::vector<forward::HealthPtr>& health() const { return live->health_of(group, purpose()); }
    forward::ClientActivity* activity() const {
      return on_behalf_of == nullptr ? nullptr : &live->activity_of(*on_behalf_of);
    }
    forward::Candidates candidates() const { return live->candidates(group, purpose()); }
  };
  /// How many requests may wait for servers, and how much of that one group, and one client, may hold.
  struct Room {
    std::size_t most = 0;
    unsigned group_percent = 50;
    unsigned client_percent = 50;
  };
  Crossings(Composer& composer, Random& random, Counters& counters, Room room);

  /// Starts asking a group. The ticket is for `forget`.
  ///   errors  Errc::busy: too many requests wait already, in all, for this group or of this client, which
  ///   may
  ///           hold their shares;
  ///           Errc::unreachable: its servers are down, and enough requests find out whether they still are;
  ///           otherwise the packet cannot be built
  Result<Ticket> start(Ticket owner, Errand errand, const Turn& turn);
  /// Takes one datagram from a server; gives the reply if it is genuine and waited for. The crossing is then
  /// over.
  std::optional<Arrived> on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets,
                                  const Turn& turn);
  /// Carries on with everything whose deadline has passed.
  std::vector<GivenUp> on_timer(const Turn& turn);
  std::optional<TimePoint> next_deadline();
  /// The owner no longer wants an answer.
  void forget(Ticket crossing);
  std::size_t waiting() const { return slots_.taken(); }

 private:
  using ByGroup = std::map<std::string, std::size_t>;  // how many wait
  struct Crossing {
    Ticket owner;
    Errand errand;
    ByGroup::iterator counted;  // of errand's group
    forward::Forwarding way;
    /// One server that was asked; its answer is taken as long as the request waits.
    struct Exchange {
      std::size_t server = 0;
      Endpoint at;
      forward::ExchangeId id;
      wire::Authenticator authenticator{};
      TimePoint asked{};  ///< first
    };
    std::vector<Exchange> exchanges;  // the last one is under way
    Octets packet;
    const plan::Group& group() const { return errand.asked_group(); }
    const plan::Server& server(std::size_t place) const { return group().servers[place]; }
    const std::vector<forward::HealthPtr>& health() const { return errand.health(); }
  };
  /// An exchange that was given up: its answer, should it still come, shows that the server is alive. It
  /// holds no plan: an old one would stay in memory.
  struct Gone {
    Crossing::Exchange exchange;
    forward::HealthPtr health;
    plan::Server server;
    std::string name;  ///< "GROUP/SERVER"
    wire::Code asked{};
  };
  struct Timer {
    TimePoint at;
    Ticket crossing;
    bool operator>(const Timer& other) const { return at > other.at; }
  };
  forward::Forwarding::Moment moment(const Turn& turn);
  Status ask_first_that_can(forward::Forwarding::Step step, Ticket ticket, Crossing& crossing,
                            const Turn& turn);
  Status ask_server(Ticket ticket, Crossing& crossing, const Turn& turn);
  void send(Ticket ticket, Crossing& crossing, Actions& out);
  Status has_room(const Errand& errand, std::size_t waiting) const;
  void went_unanswered(const Crossing& crossing, const Turn& turn);
  void end(Ticket ticket);
  void give_up(Ticket ticket, Crossing& crossing);
  /// True if it is the genuine answer to something that was given up.
  bool came_too_late(std::uint16_t lane, const Endpoint& from, const wire::PacketView& reply,
                     const Turn& turn);
  void drop_reply(const Endpoint& from, decide::Ending ending, const Turn& turn);

  static constexpr std::size_t kTrials = 8;  // requests at a time for a group that is down
  static constexpr std::size_t kMostGone = 512;
  Owner owner_;
  Composer& composer_;
  Room room_;
  std::deque<Gone> gone_;
  ByGroup by_group_;
  Random& random_;
  Counters& counters_;
  Slots<Crossing> slots_;
  forward::Identifiers identifiers_;
  std::priority_queue<Timer, std::vector<Timer>, std::greater<>> timers_;
};

}  // namespace jembatan::engine
