// An operator's rehearsal.
#include "base/octets.h"
#include "document/parse.h"
#include "rehearsal/case.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jembatan;
  document::Problems problems;
  const auto file = document::parse("fuzz.toml", text_of(OctetView(data, size)), problems);
  if (file) (void)rehearsal::read(*file, problems);
  (void)problems.text();
  return 0;
}
