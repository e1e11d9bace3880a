#pragma once
// The attributes of a packet, taken apart as far as the catalogue reaches: one line each, those inside others
// below them. What does not follow its format is shown as octets, with what is wrong.
#include "dictionary/catalogue.h"
#include "wire/packet.h"
#include "wire/shared_secret.h"

namespace jembatan::dictionary {

/// Octets of the packet.
struct Range {
  std::size_t at = 0;
  std::size_t size = 0;
  bool operator==(const Range&) const = default;
};

struct Described {
  std::string
      name;  ///< "Tunnel-Private-Group-ID[1]" with its tag, "26.32473.9" if the catalogue does not know it
  std::string value;
  const Definition* definition = nullptr;
  Path path;
  int depth = 0;              ///< 0: an attribute of the packet, 1: inside the line of depth 0 above it
  std::vector<Range> pieces;  ///< several for values that were cut into pieces
  std::string problem;        ///< what is wrong with its format; empty: nothing
};

/// What hidden values are opened with.
struct Opening {
  const wire::SharedSecret& secret;
  wire::Authenticator request;  ///< Request Authenticator of the request that the packet is, or answers
};

/// With an opening, hidden values are shown in clear, or as "(unreadable with this secret)"; without, they
/// are named only.
std::vector<Described> describe(const Catalogue& catalogue, const wire::PacketView& packet,
                                const Opening* opening = nullptr);

/// The same for attributes without a packet around them, well-formed as PacketView::parse wants them; ranges
/// count from the first octet given.
std::vector<Described> describe(const Catalogue& catalogue, OctetView attributes);

}  // namespace jembatan::dictionary
