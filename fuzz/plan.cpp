// An operator's plan.
#include "plan/read.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jembatan;
  const std::vector<plan::SourceFile> files{{"fuzz.toml", std::string(text_of(OctetView(data, size)))}};
  const auto secret = [](const std::string&) -> Result<std::string> { return std::string("laut"); };
  document::Problems problems;
  (void)plan::read(files, {secret, secret}, problems);
  (void)problems.text();
  return 0;
}
