// A row of the inbox, which may be damaged; and an Accounting-Request taken in, packed, and taken apart.
#include <algorithm>
#include <cstdlib>

#include "accounting/keys.h"
#include "accounting/packed.h"
#include "accounting/sessions.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jembatan;
  const OctetView octets(data, size);
  const auto records = accounting::unpacked(octets);
  std::optional<accounting::Session> session;
  for (std::size_t i = 0; records && i < records->size(); ++i)
    (void)accounting::follow(session, accounting::taken_apart((*records)[i].arrival));

  const auto packet = wire::PacketView::parse(octets);
  if (!packet) return 0;
  const auto arrival = accounting::arrival_of(*packet, {"deck", {}}, "reef.example", {});
  if (!arrival) return 0;
  const auto back =
      accounting::unpacked(accounting::packed(std::vector<accounting::Incoming>{{*arrival, true, {"a"}}}));
  if (!back || back->size() != 1 || back->front().arrival.attributes != arrival->attributes) std::abort();
  // What is sent on has the digest of what was received, unless it tells its time only now.
  const Octets sent = accounting::attributes_to_send(*arrival, arrival->received + std::chrono::seconds(9));
  if (accounting::tells_when(*packet) && accounting::digest_of(sent) != arrival->digest) std::abort();
  (void)accounting::follow(session, accounting::taken_apart(*arrival));
  return 0;
}
