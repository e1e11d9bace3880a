#pragma once
// The life of a request, without sockets: datagrams and time go in, what is to be done comes out.
#include <functional>
#include <queue>

#include "base/owner.h"
#include "engine/conversations.h"
#include "engine/crossings.h"
#include "engine/datagram.h"
#include "engine/loop_mark.h"
#include "engine/origins.h"
#include "engine/remembered.h"
#include "engine/repeats.h"
#include "engine/slowdown.h"

namespace jembatan::engine {

struct Settings {
  std::vector<Listening> listeners;
  std::size_t most_repeats = 65536;
  Duration keep_replies{
      10000};  ///< how long a repeated request gets the same reply (RFC 5080 §2.2.2: 5 to 30 s)
  std::size_t most_pending = 65536;
  unsigned group_percent = 50;                     ///< of what may wait for servers, that one group may hold
  unsigned client_percent = 50;                    ///< the same of one client
  const std::atomic<bool>* watched = nullptr;      ///< true: somebody may see rejected passwords; null: never
  const std::atomic<bool>* no_stories = nullptr;   ///< true: nobody has room for one more; null: never
  std::shared_ptr<Slowdown> slowdown = {};         ///< that of the node; null: one of its own
  std::shared_ptr<const LoopMark> loop_mark = {};  ///< the same
  std::shared_ptr<Conversations> conversations = {};  ///< the same
  std::shared_ptr<Origins> origins = {};              ///< the same
  std::shared_ptr<Remembered> remembered = {};        ///< the same
  std::shared_ptr<decide::Elsewhere> elsewhere = {};  ///< the same; null: nobody is anywhere
  /// Begins the method that takes several rounds, for a request that is to be proved; null: it is proved in
  /// one. Empty: there is no such method.
  std::function<std::unique_ptr<decide::Method>(const decide::Course&)> begin_method = {};
};

/// One worker's share of the node. Everything here belongs to one thread; plans and healths are shared.
class Engine final : private Composer {
 public:
  Engine(Settings settings, Random& random, Counters& counters);

  /// Requests that arrive from now on are decided with this plan; those under way end with the one they began
  /// with, unless it has lost their client, or switched it off: those end at once.
  void use(forward::LivePlanPtr live, const Turn& turn);

  /// A datagram from a client: it meets one outcome, now or when what it waits for has come.
  void handle(const Datagram& in, const Turn& turn);
  /// A datagram from a server; what is not genuine, or not waited for, is told and counted.
  ///   lane  that the request went out by
  void on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn);
  /// What came of a job; for which nobody waits any more, it is counted.
  void on_done(Ticket ticket, const JobResult& result, const Turn& turn);
  /// Ends, or asks again, whatever has waited for long enough.
  void on_timer(const Turn& turn);
  /// When on_timer() is to be called next; nothing while nothing waits.
  std::optional<TimePoint> next_deadline();

  /// Ends everything that is still being worked on, without an answer, in the order in which it came.
  void stop(const Turn& turn);
  std::size_t in_flight() const { return pending_.taken(); }

 private:
  /// A request that waits; owns a copy of its octets.
  struct Pending {
    Octets octets;
    std::uint16_t listener = 0;
    Endpoint from;
    IpAddress to;
    Now arrived;
    forward::LivePlanPtr live;
    const plan::Client* client = nullptr;
    plan::WhichSecret which_secret{};
    Repeats::Handle repeat;
    std::optional<decide::Course> course;
    std::vector<Given> given;
    Ticket crossing;                           ///< while servers are asked
    bool comparing = false;                    ///< while a password is compared, here or by a directory
    bool looking_up = false;                   ///< while a directory is asked
    bool judging = false;                      ///< while a one-time code is judged
    std::optional<Conversation> conversation;  ///< that it goes on with
    identity::StoredPassword stored;           ///< that a directory has of the user
    bool began_elsewhere = false;  ///< its conversation did, with a server: no other can go on with it
  };
  /// One request while a step looks at it. Views only.
  struct Request {
    const wire::PacketView& packet;  ///< as received
    const Datagram& in;
    const forward::LivePlanPtr& live;
    const plan::Client& client;
    plan::WhichSecret which_secret;  ///< the one that the client used
    Repeats::Handle repeat;
    Now arrived;
    const Turn& turn;
    decide::Course* course = nullptr;  ///< once it has one
    std::vector<Given>* given = nullptr;
    std::optional<Conversation>* conversation = nullptr;  ///< that it goes on with
    Ticket ticket = {};                                   ///< if it has waited

    const wire::SharedSecret& secret() const { return client.secret_of(which_secret); }
    std::chrono::microseconds age() const {
      return std::chrono::duration_cast<std::chrono::microseconds>(turn.now.steady - arrived.steady);
    }
  };
  using Ending = decide::Ending;
  using Next = decide::Next;

  // Who may ask (verify.cpp).
  std::optional<plan::WhichSecret> verify(const wire::PacketView& packet, const plan::Client& client,
                                          const Datagram& in, const Turn& turn);

  // The steps of a course (handle.cpp); what takes time goes on at on_done, on_reply or on_timer.
  void answer_status(const Request& request);
  void take_course(const Request& request);
  void carry_on(const Request& request, Next next);
  void record(const Request& request);
  void recorded(const Request& request, const Result<accounting::Kept>& kept);
  void not_done(const Request& request, std::string_view because);
  /// Gives the course what came of a step.
  template <class What>
  void give(const Request& request, What what);
  /// The same, and notes it for the journal as it is.
  template <class What>
  void note_and_give(const Request& request, What what);

  // Asking servers (asking.cpp).
  void ask(const Request& request);
  void not_asked(Ticket ticket, const Error& error, const Turn& turn);
  /// No server of the group answered.
  void silent(Ticket ticket, const std::string& why, const Turn& turn);
  /// Why a request must not go on: it was here before, or has passed too many proxies; empty otherwise.
  std::string loop_of(const Request& request) const;
  /// What ties the request to a server.
  ///   errors  Errc::unreachable: to one that cannot be asked
  Result<forward::Asker> asker_of(const Request& request) const;
  /// When the client no longer waits, or the group has had its time.
  static TimePoint patience_of(const Request& request);

  // Proving (proving.cpp).
  static Slowdown::Attempt attempt_of(const decide::Course& course, const plan::Client& client);
  static Slowdown::Attempt attempt_of(const Request& request) {
    return attempt_of(*request.course, request.client);
  }
  void look_up(const Request& request);
  void looked_up(const Request& request, const LookedUp& result);
  /// Whether a proof must wait because of wrong ones before: then it is refused.
  bool is_slowed(const Request& request);
  /// Whether a proof that takes time may begin, and counts as under way; otherwise it is refused.
  bool may_begin(const Request& request);
  /// Waits with a proof that may begin; if there is no room, it has ended.
  std::optional<Ticket> wait_comparing(const Request& request, Duration at_most, bool comparing);
  /// What is kept of the user's password, here or in a directory; null: nobody has this name.
  const identity::StoredPassword* stored_of(const Request& request);
  bool shows_nothing(const Request& request);
  void prove(const Request& request);
  bool converse(const Request& request);
  void next_round(const Request& request, Conversation conversation);
  /// A State that belongs to no conversation, where there are conversations.
  bool is_stray(const Request& request) const;
  /// Asks for another round (RFC 2865 §5.24), and keeps the conversation until then.
  void challenge_with(const Request& request, decide::Challenge challenge, Conversation conversation,
                      std::optional<Duration> within);
  void prove_typed(const Request& request);
  void compare(const Request& request, const identity::StoredPassword& stored, OctetView typed);
  void compared(const Request& request, Compared result);
  void typed_proved(const Request& request, Compared result, OctetView typed);
  static OctetView password_in(const decide::Course& course, OctetView typed);
  void proved(const Request& request, decide::Proof proof);

  // Second factors (factors.cpp).
  void prove_factor(const Request& request);
  void judge(const Request& request, Secret code);
  void judged(const Request& request, const Judged& result);
  void ask_code(const Request& request, decide::Resumed so_far, std::string_view because,
                const std::string& detail);

  // Endings: each datagram meets one of them. A reply goes out signed, with the client's Proxy-State
  // attributes.
  void drop(const Datagram& in, const plan::Client* client, Ending ending, const Turn& turn);
  void reply(const Request& request, wire::Code code, OctetView attributes, Ending ending);
  void no_reply(const Request& request, Ending ending);
  void tell(const Request& request, Ending ending, OctetView reply = {});
  static StoryPtr story_of(const Request& request, OctetView reply);
  /// Where a copy of a request is to go, now that it has ended; nothing: nowhere.
  std::optional<Actions::Copy> copy_of(const Request& request);
  void show_rejected(const Request& request) const;

  /// The request waits from now on, under this ticket; what was its ticket before finds nothing any more.
  ///   at_most  after which it ends; nothing: somebody else sees to that
  ///   returns  nothing if there is no room: then it has ended
  std::optional<Ticket> wait(const Request& request, std::optional<Duration> at_most);
  /// Runs `step` with the request that waits under the ticket. Unless it waits again, it is forgotten.
  template <class Step>
  void resume(Ticket ticket, const Turn& turn, Step step);
  /// Ends a request that waits, without an answer.
  void cancel(Ticket ticket, const Ending& ending, const Turn& turn);
  Status compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                 wire::PacketBuilder& out) override;
  void asked(Ticket owner, const Asking& what, Now now) override;

  struct Deadline {
    TimePoint at;
    Ticket ticket;
    bool operator>(const Deadline& other) const { return at > other.at; }
  };

  Owner owner_;
  Settings settings_;
  Random& random_;
  Counters& counters_;
  forward::LivePlanPtr live_;
  Repeats repeats_;
  Slots<Pending> pending_;
  std::priority_queue<Deadline, std::vector<Deadline>, std::greater<>> deadlines_;
  Crossings crossings_;
  std::shared_ptr<Slowdown> slowdown_;
  std::shared_ptr<const LoopMark> loop_mark_;
  std::shared_ptr<Conversations> conversations_;
  std::shared_ptr<Origins> origins_;
  std::shared_ptr<Remembered> remembered_;
};

}  // namespace jembatan::engine
