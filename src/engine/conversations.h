#pragma once
#include <array>
#include <atomic>
#include <list>
#include <memory>
#include <string>
#include <unordered_map>

#include "base/clock.h"
#include "base/guarded.h"
#include "decide/factor.h"
#include "decide/method.h"

namespace jembatan::engine {

/// What is kept between an Access-Challenge and the next request (RFC 2865 §5.24).
struct Conversation {
  std::unique_ptr<decide::Method> method;  ///< null: a code was asked for
  std::string client;                      ///< whose it is
  std::string user;                        ///< with its realm, as the plan understands the name
  decide::ResumedPtr resumed = {};         ///< what was proved, if a code was asked for
};

/// The conversations of a node, by their State: 16 random octets. Whoever works on a packet takes its
/// conversation out and puts it back under a new State, so that no packet is handed from worker to worker,
/// and a State serves once. They expire. Bounded: when there is no room, the oldest of the client that has
/// most ends, so that nobody can push out others. Any thread.
class Conversations {
 public:
  using State = std::array<std::uint8_t, 16>;

  explicit Conversations(std::size_t most = 16384, Duration keep = Duration{60000})
      : most_each_(std::max<std::size_t>(1, most / kShards)), keep_(keep) {}

  ///   until  it expires; nothing: after the time that is usual here
  void put(const State& state, Conversation conversation, TimePoint now,
           std::optional<TimePoint> until = std::nullopt);
  /// Nothing if there is none of this State and client: it has ended, has expired, or is being worked on.
  std::optional<Conversation> take(OctetView state, std::string_view client, TimePoint now);

  std::size_t size() const { return size_.load(std::memory_order_relaxed); }
  /// How many ended early for want of room.
  std::uint64_t pushed_out() const { return pushed_out_.load(std::memory_order_relaxed); }

 private:
  struct Held {
    State state;
    Conversation conversation;
    TimePoint until;
  };
  struct Hash {
    std::size_t operator()(const State& state) const { return load64(state.data()); }
  };
  struct Shard {
    std::list<Held> by_end;  // who expires first is the first
    std::unordered_map<State, std::list<Held>::iterator, Hash> by_state;
    std::unordered_map<std::string, std::size_t> of_client;  // how many
  };
  static constexpr std::size_t kShards = 16;
  void end(Shard& shard, std::list<Held>::iterator held);
  void end_expired(Shard& shard, TimePoint now);
  void push_out(Shard& shard);

  std::size_t most_each_;
  Duration keep_;
  std::array<Guarded<Shard>, kShards> shards_;
  std::atomic<std::size_t> size_{0};
  std::atomic<std::uint64_t> pushed_out_{0};
};

}  // namespace jembatan::engine
