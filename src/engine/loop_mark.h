#pragma once
// Knowing a request again that this node has forwarded before.
#include "base/slots.h"
#include "wire/packet.h"
#include "wire/shared_secret.h"

namespace jembatan::engine {

/// What this node puts into the Proxy-State (RFC 2865 §5.33) of all that it forwards: a request that carries
/// one was here before. Keyed, so that nobody else can make one. One for the node; any thread.
class LoopMark {
 public:
  /// `key`: 16 octets or more by chance.
  explicit LoopMark(const Secret& key) : key_(key) {}

  static constexpr std::size_t kSize = 16;
  using Mark = std::array<std::uint8_t, kSize>;
  Mark make(Ticket ticket) const;
  bool is_ours(OctetView proxy_state) const;

 private:
  wire::SharedSecret key_;
};

}  // namespace jembatan::engine
