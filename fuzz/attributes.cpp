// Attributes of every kind, taken apart by the catalogue.
#include "dictionary/advice.h"
#include "dictionary/describe.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jembatan;
  Octets octets(20);
  octets[0] = 2;
  append(octets, OctetView(data, std::min<std::size_t>(size, 4076)));
  store16(&octets[2], static_cast<std::uint16_t>(octets.size()));
  const auto packet = wire::PacketView::parse(octets);
  if (!packet) return 0;
  static const wire::SharedSecret secret{Secret("laut")};
  const dictionary::Opening opening{secret, {}};
  const auto lines = dictionary::describe(dictionary::standard(), *packet, &opening);
  for (const auto& line : lines) {
    for (const auto& range : line.pieces) {
      if (range.at + range.size > octets.size()) __builtin_trap();
    }
  }
  (void)dictionary::advise(packet->code(), lines);
  return 0;
}
