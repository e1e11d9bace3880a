#pragma once
#include <deque>
#include <map>
#include <set>

#include "base/owner.h"
#include "engine/crossings.h"
#include "engine/progress.h"

namespace jembatan::engine {

/// Sends kept accounting records on to groups until each is acknowledged. Belongs to one thread. Records come
/// from the durable queue and leave it when `delivered` is carried out; what no server acknowledges stays
/// there and is offered again later.
class Delivery final : private Composer {
 public:
  Delivery(Random& random, Counters& counters, std::size_t most_under_way);

  void use(forward::LivePlanPtr live) {
    owner_.check();
    live_ = std::move(live);
  }
  /// Takes up records of the queue; those under way already are passed over.
  void offer(std::vector<accounting::Undelivered> records, const Turn& turn);
  /// A datagram from a server; a genuine acknowledgement makes its place delivered.
  void on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn);
  /// Asks again, or gives up for now, whatever has waited for long enough.
  void on_timer(const Turn& turn);
  /// When on_timer() is to be called next; nothing while nothing is under way.
  std::optional<TimePoint> next_deadline() { return crossings_.next_deadline(); }

  /// Places in the queue that were acknowledged since the last call; they count as under way until
  /// taken_off().
  std::vector<std::int64_t> take_delivered() { return std::exchange(delivered_, {}); }
  /// The queue no longer has these places, or could not be changed: then they may be offered again.
  void taken_off(const std::vector<std::int64_t>& places);
  /// How many more may be offered.
  std::size_t room() const { return most_ - parcels_.taken(); }
  std::size_t under_way() const { return parcels_.taken(); }
  /// How it goes, group by group. Any thread.
  const Progress& progress() const { return progress_; }

 private:
  struct Parcel {
    accounting::Undelivered item;
    Octets attributes;
  };
  /// What is told of a group whose records wait.
  struct Backlog {
    TimePoint told{};
    std::size_t since_then = 0;  ///< attempts that nobody acknowledged
  };
  void tell_of(const Parcel& parcel, const std::string& why, const Turn& turn);
  std::optional<Octets> edited(const Parcel& parcel, const plan::Server& server) const;
  Status compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                 wire::PacketBuilder& out) override;
  std::optional<std::size_t> group_named(const std::string& name) const;

  Owner owner_;
  std::size_t most_;
  forward::LivePlanPtr live_;
  Slots<Parcel> parcels_;
  std::set<std::int64_t> places_;  // under way
  std::vector<std::int64_t> delivered_;
  Progress progress_;
  std::map<std::string, Backlog> backlogs_;  // by group, while its records wait
  Crossings crossings_;
};

}  // namespace jembatan::engine
