#pragma once
#include <map>
#include <set>

#include "base/owner.h"
#include "engine/crossings.h"
#include "engine/pace.h"
#include "engine/progress.h"

namespace jembatan::engine {

/// Sends kept accounting records on to groups until each is acknowledged. Belongs to one thread. Each group
/// has a queue of its own, which takes up what it has room for from the durable one: a group that is silent
/// holds no other. The records of a session go one after the other.
class Delivery final : private Composer {
 public:
  Delivery(Random& random, Counters& counters);

  void use(forward::LivePlanPtr live);
  /// The durable queue has something new for a group.
  void more(const std::string& group);
  /// The durable queue of a group is another one: what was taken up from it is forgotten.
  void begin_anew(const std::string& group);

  /// What there is room for: the next records of a group behind one. To be answered by offer().
  struct Wish {
    std::string group;
    std::int64_t behind = 0;
    std::size_t most = 0;
  };
  std::vector<Wish> wishes(TimePoint now) const;
  /// The records that a wish was for; fewer than its most: there are no more.
  void offer(const Wish& wish, std::vector<accounting::Undelivered> records);
  /// Sends what may be sent now.
  void send(const Turn& turn);
  /// A datagram from a server; a genuine acknowledgement makes its record delivered.
  void on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn);
  /// Asks again, or gives up for now, whatever has waited for long enough.
  void on_timer(const Turn& turn);
  /// When on_timer(), and then send(), are to be called next; nothing while nothing waits.
  std::optional<TimePoint> next_deadline();

  /// What was acknowledged since the last call; it is not taken up again until taken_off().
  std::vector<accounting::Delivered> take_delivered() { return std::exchange(delivered_, {}); }
  /// What cannot be sent as it is.
  std::vector<accounting::SetAside> take_set_aside() { return std::exchange(set_aside_, {}); }
  /// The durable queue no longer has these.
  void taken_off(std::span<const accounting::Delivered> records);
  std::size_t under_way() const { return crossings_.waiting(); }
  /// How it goes, group by group. Any thread.
  const Progress& progress() const { return progress_; }

 private:
  struct Queue;
  struct Parcel {
    Queue* queue = nullptr;
    accounting::Record record;
    Octets attributes;          // as they are sent, before edits
    accounting::Digest digest;  // of what was sent last
    std::optional<WallTime> sent;
    std::uint64_t session = 0;  // a number for it
  };
  /// What waits for one group.
  struct Queue {
    std::string group;
    std::optional<std::size_t> place;        // in the plan; empty: it has no such group
    std::int64_t behind = 0;                 // what was taken up from the durable queue last
    bool more = true;                        // it has more
    std::map<std::int64_t, Ticket> waiting;  // taken up, by record
    std::set<std::uint64_t> sessions;        // that have a record under way
    std::set<std::int64_t> leaving;          // acknowledged, and still in the durable queue
    std::set<std::int64_t> under_way;
    Pace pace;
    std::optional<TimePoint> told;  // that its records wait
    std::size_t silences = 0;       // since then
    std::size_t acknowledged = 0;   // since then
    std::size_t taken_up() const { return waiting.size() + under_way.size(); }
    std::size_t room() const;
  };
  /// True if more of its records may be taken up.
  bool may_load(const Queue& queue) const;
  void put_back(Queue& queue, std::size_t but);
  void send(Queue& queue, const Turn& turn);
  bool start(Queue& queue, Ticket ticket, const Turn& turn);
  void tell_of(Queue& queue, const Parcel& parcel, const std::string& why, const Turn& turn);
  void tell_of_answer(Queue& queue, const Turn& turn);
  void tell_of_end(Queue& queue, const Turn& turn);
  static void tell(const Queue& queue, const Turn& turn, std::string text);
  std::optional<Octets> edited(const Parcel& parcel, const plan::Server& server) const;
  Status compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                 wire::PacketBuilder& out) override;
  void asked(Ticket owner, const Asking& what, Now now) override;
  std::optional<std::size_t> place_of(const std::string& group) const;
  Queue& queue_of(const std::string& group);

  Owner owner_;
  forward::LivePlanPtr live_;
  Slots<Parcel> parcels_;
  std::map<std::string, Queue> queues_;
  std::vector<accounting::Delivered> delivered_;
  std::vector<accounting::SetAside> set_aside_;
  Progress progress_;
  Crossings crossings_;
};

}  // namespace jembatan::engine
