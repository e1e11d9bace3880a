// An operator's dictionary file.
#include "base/octets.h"
#include "dictionary/read.h"
#include "document/parse.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jembatan;
  dictionary::Catalogue catalogue;
  document::Problems problems;
  const auto file = document::parse("fuzz.toml", text_of(OctetView(data, size)), problems);
  if (file) dictionary::read_into(catalogue, *file, problems);
  (void)problems.text();
  return 0;
}
