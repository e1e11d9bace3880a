#pragma once
#include "base/owner.h"
#include "engine/crossings.h"
#include "engine/datagram.h"
#include "engine/loop_mark.h"
#include "engine/repeats.h"
#include "engine/seen_requests.h"
#include "engine/sought_session.h"

namespace jembatan::engine {

/// What a device is asked to do with a session.
struct SessionRequest {
  wire::Code code{};  ///< Disconnect-Request or CoA-Request
  FoundSession of;
  Octets attributes;  ///< encoded, without Event-Timestamp and Message-Authenticator
};

/// What its device said.
struct SessionAnswer {
  std::string device = {};   ///< the client that was asked
  Endpoint at = {};          ///< where; unset if the request went nowhere
  wire::Code code{};         ///< ACK or NAK; unset: no answer
  Octets attributes = {};    ///< of the answer
  std::string why_not = {};  ///< there is no answer
  std::chrono::microseconds took{0};
};

/// Requests about sessions that last (RFC 5176): those of clients go on to the client that has the session,
/// as do those of the node itself. Belongs to one thread.
///
/// A client may ask about the sessions of the realms that the plan names for it. A request is of now
/// (Event-Timestamp, RFC 5176 §6.3) and is carried out once: what was sent before the node began, or has been
/// seen, is not.
class DynamicAuthorization final : private Composer {
 public:
  struct Parts {
    std::vector<Listening> listeners;
    SessionFinder& sessions;
    std::shared_ptr<const LoopMark> loop_mark;
    Now began;  ///< when the node did
  };
  using Done = std::function<void(const SessionAnswer&, const Turn&)>;

  DynamicAuthorization(Parts parts, Random& random, Counters& counters);

  /// Requests from now on go by this plan; those under way end with theirs.
  void use(forward::LivePlanPtr live) { live_ = std::move(live); }
  /// A datagram from a client: it meets one outcome, now or when the device has answered.
  void handle(const Datagram& in, const Turn& turn);
  /// The node itself asks; `done` is called when there is an answer, or will be none. That may be at once.
  void ask(SessionRequest request, const Turn& turn, Done done);
  /// A datagram from a device; its answer goes back to who asked.
  void on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn);
  /// Asks again, or gives up, whatever has waited for long enough.
  void on_timer(const Turn& turn);
  /// When on_timer() is to be called next; nothing while nothing waits.
  std::optional<TimePoint> next_deadline() { return crossings_.next_deadline(); }
  /// Ends what is under way; who waits for an answer is told so.
  void stop(const Turn& turn);
  /// Requests that wait for their device.
  std::size_t under_way() const { return pending_.taken(); }

 private:
  /// Where a request of a client came from, and how it is answered.
  struct Origin {
    Octets octets;
    std::uint16_t listener = 0;
    Endpoint from;
    IpAddress to;
    const plan::Client* client = nullptr;
    plan::WhichSecret which_secret{};
    Repeats::Handle repeat;
    wire::PacketView packet() const { return *wire::PacketView::parse(octets); }
    Datagram datagram() const { return {listener, from, to, octets}; }
  };
  struct Pending {
    forward::LivePlanPtr live;
    Now arrived;
    std::optional<Origin> origin;  // of a client's
    Done done;                     // of the node's own
    SessionRequest request;
    const plan::Client* device = nullptr;
    Endpoint at;
    Ticket crossing;
  };
  /// A verified request of a client.
  struct Asked {
    const wire::PacketView& packet;
    const Datagram& in;
    const plan::Client& client;
    plan::WhichSecret which_secret;
    Repeats::Handle repeat;
    const Turn& turn;
  };
  using Ending = decide::Ending;

  std::optional<plan::WhichSecret> verify(const wire::PacketView& packet, const plan::Client& client,
                                          const Datagram& in, const Turn& turn);
  /// What is wrong with its time; empty: nothing.
  std::string not_of_now(const wire::PacketView& packet, Now now) const;
  std::optional<NotAcknowledged> why_not_sent_on(const Asked& asked) const;
  void pass_on(const Asked& asked, FoundSession found);
  /// Asks the device.
  ///   errors  what whoever asked is told
  std::optional<NotAcknowledged> start(Ticket ticket, const Turn& turn);
  void refuse(const Asked& asked, NotAcknowledged why, const Pending* of = nullptr);
  void answered(Pending& pending, const wire::PacketView& reply, const Turn& turn);
  /// Tells whoever waits for the node's own request what came of it.
  static void own_ended(Pending& pending, const SessionAnswer& answer, const Turn& turn);
  void not_answered(Pending& pending, NotAcknowledged why, const Turn& turn);
  void reply(const Asked& asked, wire::Code code, OctetView attributes, Ending ending, const Pending* of);
  /// Tells, and counts, what became of a datagram.
  void tell(const Datagram& in, const plan::Client* client, const wire::PacketView* packet, Ending ending,
            const Turn& turn);
  void release(Ticket ticket);
  Status compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                 wire::PacketBuilder& out) override;

  Owner owner_;
  Parts parts_;
  Random& random_;
  Counters& counters_;
  forward::LivePlanPtr live_;
  Repeats repeats_;
  Slots<Pending> pending_;
  SeenRequests seen_;
  Crossings crossings_;
};

}  // namespace jembatan::engine
