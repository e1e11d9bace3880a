// Hexadecimal as people paste it, and IP packets as capture files hold them.
#include "cli/capture_file.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jembatan;
  (void)from_hex(text_of(OctetView(data, size)));
  cli::Captured captured;
  (void)cli::datagram_in(OctetView(data, size), captured);
  return 0;
}
