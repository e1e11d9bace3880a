// What comes by at a stand-in of the lab.
#include "lab/fault.h"

#include "base/octets.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jembatan;
  static const wire::SharedSecret secret{Secret("laut")};
  const OctetView datagram(data, size);
  (void)lab::parse_fault(text_of(datagram.first(std::min<std::size_t>(size, 64))));
  NoRandom random;
  for (const char* fault : {"none", "wrong-secret", "reject-all"})
    for (const auto direction : {lab::Direction::to_node, lab::Direction::to_asker})
      (void)lab::pass(*lab::parse_fault(fault), direction, datagram, &secret, random);
  return 0;
}
