#pragma once
// The life of a request, without sockets: datagrams and time go in, what is to be done comes out.
#include "decide/decide.h"
#include "engine/crossings.h"
#include "engine/loop_mark.h"
#include "engine/rehide.h"
#include "engine/repeats.h"
#include "engine/slowdown.h"
#include "engine/watch.h"

namespace jembatan::engine {

/// A datagram as it arrived.
struct Datagram {
  std::uint16_t listener = 0;  ///< index into Settings::listeners
  Endpoint from;
  IpAddress to;  ///< the local address it was sent to
  OctetView octets;
};

/// Where requests are received.
struct Listening {
  forward::Purpose purpose{};
  Endpoint at;
};

struct Settings {
  std::vector<Listening> listeners;
  std::size_t most_repeats = 65536;
  Duration keep_replies{
      10000};  ///< how long a repeated request gets the same reply (RFC 5080 §2.2.2: 5 to 30 s)
  std::size_t most_pending = 16384;
  unsigned group_percent = 50;                     ///< of what may wait for servers, that one group may hold
  PasswordWatch* watch = nullptr;                  ///< null: nobody sees rejected passwords
  std::shared_ptr<Slowdown> slowdown = {};         ///< that of the node; null: one of its own
  std::shared_ptr<const LoopMark> loop_mark = {};  ///< the same
};

/// One worker's share of the node. Everything here belongs to one thread; plans and healths are shared.
class Engine final : private Composer {
 public:
  Engine(Settings settings, Random& random, Counters& counters);

  /// Requests that arrive from now on are decided with this plan; those under way end with the one they began
  /// with.
  void use(forward::LivePlanPtr live) { live_ = std::move(live); }

  void handle(const Datagram& in, Now now, Actions& out);
  void on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, Now now, Actions& out);
  void on_proved(Ticket ticket, bool matches, Now now, Actions& out);
  /// Nobody could be found to do what was asked for; the request ends without an answer.
  void on_overload(Ticket ticket, std::string_view because, Now now, Actions& out);
  /// The record is durable, or the store refused it (`why`).
  void on_recorded(Ticket ticket, const Result<accounting::Kept>& kept, Now now, Actions& out);
  void on_timer(Now now, Actions& out);
  std::optional<TimePoint> next_deadline() { return crossings_.next_deadline(); }

  /// Ends everything that is still being worked on, without an answer.
  void stop(Now now, Actions& out);
  std::size_t in_flight() const { return pending_.taken(); }

 private:
  /// A request that is being worked on; owns a copy of its octets.
  struct Pending {
    Octets octets;
    std::uint16_t listener = 0;
    Endpoint from;
    IpAddress to;
    Octets received;  ///< before the plan's edits; empty: they changed nothing
    Now arrived;
    forward::LivePlanPtr live;
    const plan::Client* client = nullptr;
    plan::WhichSecret which_secret{};
    Repeats::Handle repeat;
    const plan::User* user = nullptr;  ///< whose password is compared; null: there is no such user
    decide::Way way;
    std::vector<Mark> marks;
    std::vector<std::string> notes;  ///< of edits to the answer
    Ticket crossing;
  };
  /// One request while a step looks at it: what is known so far. Views only.
  struct Request {
    const wire::PacketView& packet;
    const Datagram& in;
    const forward::LivePlanPtr& live;
    const plan::Client& client;
    plan::WhichSecret which_secret;  ///< the one that the client used
    Repeats::Handle repeat;
    Now arrived;
    Now now;
    Actions& out;
    wire::PacketView received;         ///< before the plan's edits
    const decide::Way* way = nullptr;  ///< once it is known
    const std::vector<Mark>* marks = nullptr;
    std::vector<std::string>* notes = nullptr;

    const wire::SharedSecret& secret() const { return client.secret_of(which_secret); }
    bool accounting() const { return packet.code() == wire::Code::accounting_request; }
    /// As it is decided, at the time when it arrived.
    decide::Request asked() const { return {*live->plan, packet, client, accounting(), arrived.wall}; }
    std::chrono::microseconds age() const {
      return std::chrono::duration_cast<std::chrono::microseconds>(now.steady - arrived.steady);
    }
  };
  struct Ending {
    Outcome outcome{};
    std::string_view because = {};
    std::string detail = {};
    std::string server = {};
    decide::Assume assume = decide::Assume::proven;  ///< refused: the password, or what stands for it, was
  };

  // The steps, in the order of handle().
  bool may_use(const plan::Client& client, std::uint16_t listener, const IpAddress& to) const;
  std::optional<plan::WhichSecret> verify(const wire::PacketView& packet, const plan::Client& client,
                                          const Datagram& in, Now now, Actions& out);
  void answer_status(const Request& request);
  void decide(const Request& request);
  void decide_edited(Request request);
  void decide_access(const Request& request);
  void prove(const Request& request);
  void prove_password(const Request& request, const plan::User* user);
  static Slowdown::Attempt attempt_of(const Request& request, const plan::User* user);
  void prove_typed(const Request& request, const plan::User* user);
  void proved(const Request& request, const plan::User* user, bool matches, OctetView typed);
  void right_password(const Request& request, const plan::User& user, OctetView besides = {});
  void refuse_password(const Request& request, Ending ending, OctetView besides = {});
  void admit(const Request& request, const decide::Candidate& candidate, OctetView besides = {});
  void forward_access(const Request& request);
  /// No server of the group answered: as the group says.
  void silent(const Request& request, const std::string& why);
  /// Why a request must not go on: it was here before, or has passed too many proxies; empty otherwise.
  std::string loop_of(const Request& request) const;
  static bool signed_by_client(const Request& request);
  static bool unreadable_here(const Request& request);
  void record(const Request& request);
  /// Does the plan's edits at a point to a packet of this request; nothing if none was done.
  struct Edited {
    plan::EditPoint point{};
    const wire::PacketView& packet;
    HiddenWith with;
    const plan::Server* server = nullptr;       ///< that is asked, or that answered
    std::vector<std::string>* notes = nullptr;  ///< if given: gets a line for each edit
  };
  std::optional<Octets> edited(const decide::Request& asked, const decide::Way* way, const Edited& what);

  // Endings: each datagram meets one of them. A reply goes out signed, after the plan's edits, with the
  // client's Proxy-State attributes.
  void drop(const Datagram& in, const plan::Client* client, Ending ending, Now now, Actions& out);
  void reply(const Request& request, wire::Code code, OctetView attributes, Ending ending);
  void no_reply(const Request& request, Ending ending);
  void tell(const Request& request, Ending ending, OctetView reply = {});
  static StoryPtr story_of(const Request& request, const Ending& ending, OctetView reply);
  void show_rejected(const Request& request) const;

  Ticket keep(const Request& request);
  /// Runs `step` with the pending request as it was, then forgets it.
  template <class Step>
  void finish(Ticket ticket, Now now, Actions& out, Step step);
  std::optional<Octets> outgoing(const Pending& pending, const wire::PacketView& packet,
                                 const plan::Server& server);
  Status compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                 wire::PacketBuilder& out) override;
  void asked(Ticket owner, std::size_t server, bool again, Now now) override;

  Settings settings_;
  Random& random_;
  Counters& counters_;
  forward::LivePlanPtr live_;
  Repeats repeats_;
  Slots<Pending> pending_;
  std::vector<Ticket> under_way_;  // every ticket of pending_, and ended ones; swept when it grows
  Crossings crossings_;
  std::shared_ptr<Slowdown> slowdown_;
  std::shared_ptr<const LoopMark> loop_mark_;
};

}  // namespace jembatan::engine
