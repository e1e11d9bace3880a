#pragma once
#include <array>
#include <optional>
#include <unordered_map>
#include <vector>

#include "base/ip.h"

namespace jembatan::forward {

/// How a request is told apart at a server: the source port it leaves from (a "lane", numbered from 0) and
/// its Identifier (RFC 2865 §3).
struct ExchangeId {
  std::uint16_t lane = 0;
  std::uint8_t identifier = 0;
  bool operator==(const ExchangeId&) const = default;
};

/// Hands out Identifiers per server, in turn, so that a freed one rests as long as possible; opens another
/// lane when half of the Identifiers are in use. Belongs to one thread.
class Identifiers {
 public:
  static constexpr std::size_t kMostLanes = 256;
  using Owner = std::uint32_t;

  /// Nothing if all lanes are full.
  std::optional<ExchangeId> take(const Endpoint& server, Owner owner);
  std::optional<Owner> owner_of(const Endpoint& server, ExchangeId id) const;
  void release(const Endpoint& server, ExchangeId id);

 private:
  static constexpr Owner kFree = ~Owner{0};
  struct PerServer {
    std::vector<std::array<Owner, 256>> lanes;
    std::size_t used = 0;
    std::size_t next = 0;
  };
  struct Hash {
    std::size_t operator()(const Endpoint& endpoint) const { return hash_of(endpoint); }
  };
  std::unordered_map<Endpoint, PerServer, Hash> servers_;
};

}  // namespace jembatan::forward
