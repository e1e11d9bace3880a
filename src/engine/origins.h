#pragma once
#include <array>
#include <deque>
#include <optional>
#include <string_view>
#include <unordered_map>

#include "base/clock.h"
#include "base/guarded.h"
#include "base/ip.h"
#include "base/octets.h"

namespace jembatan::engine {

/// With which server a conversation began: the one that gave the State (RFC 2865 §5.24) gets the rounds after
/// it. One for the whole node: the rounds of one device may come to different workers. Any thread. Bounded:
/// the oldest is forgotten first; what is forgotten goes by the group's selection.
class Origins {
 public:
  ///   seed  by chance, so that nobody outside knows what falls together
  explicit Origins(std::uint64_t seed, std::size_t most = 65536, Duration keep = Duration{300000})
      : seed_(seed), most_each_(std::max<std::size_t>(1, most / kShards)), keep_(keep) {}

  /// A server has answered a request of this client with a challenge.
  void began(std::string_view client, OctetView state, const Endpoint& server, TimePoint now);
  std::optional<Endpoint> of(std::string_view client, OctetView state, TimePoint now) const;
  std::size_t size() const;

 private:
  using Key = std::uint64_t;
  struct Held {
    Endpoint server;
    TimePoint until;
  };
  struct Shard {
    std::unordered_map<Key, Held> by_key;
    std::deque<std::pair<TimePoint, Key>> by_age;  // until when; the oldest first
  };
  static constexpr std::size_t kShards = 16;
  Key key_of(std::string_view client, OctetView state) const;

  std::uint64_t seed_;
  std::size_t most_each_;
  Duration keep_;
  mutable std::array<Guarded<Shard>, kShards> shards_;
};

}  // namespace jembatan::engine
