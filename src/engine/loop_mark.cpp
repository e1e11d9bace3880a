#include "engine/loop_mark.h"

#include <algorithm>

namespace jembatan::engine {
namespace {

constexpr std::size_t kTicket = 8;

}  // namespace

// The ticket, then the first half of its HMAC-MD5 (RFC 2104 §5 allows the half).
LoopMark::Mark LoopMark::make(Ticket ticket) const {
  Mark out{};
  store32(out.data(), ticket.index);
  store32(out.data() + 4, ticket.generation);
  hmac_md5_ctx context = key_.hmac_start();
  hmac_md5_update(&context, kTicket, out.data());
  hmac_md5_digest(&context, kSize - kTicket, out.data() + kTicket);
  return out;
}

bool LoopMark::is_ours(OctetView proxy_state) const {
  if (proxy_state.size() != kSize) return false;
  const Mark expected = make({load32(proxy_state.data()), load32(proxy_state.data() + 4)});
  return equal_in_constant_time(expected, proxy_state);
}

}  // namespace jembatan::engine
