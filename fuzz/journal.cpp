// A block of the journal's file, which may be damaged: read, told in words, searched.
#include "journal/pack.h"
#include "journal/tell.h"
#include "plan/read.h"

namespace {

using namespace jembatan;

constexpr const char* kPlan = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
[[group]]
name = "lagoon"
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "danau"
[[group.server]]
name = "lagoon-2"
address = "198.51.100.2"
secret = "danau"
[[realm]]
name = "lagoon.example"
handle = "group:lagoon"
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "sari@reef.example"
password = { clear = "x" }
[[edit]]
name = "greet"
at = "replying"
set = { Reply-Message = "Hello {user}." }
)";

const plan::PlanPtr& plan_in_force() {
  static const plan::PlanPtr plan = [] {
    const std::vector<plan::SourceFile> files{{"plan.toml", kPlan}};
    document::Problems problems;
    return plan::read(files, {}, problems);
  }();
  return plan;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  journal::Block block;
  block.entries.assign(data, data + size);
  const auto records = journal::records_in(block);
  if (!records) return 0;
  for (const journal::Record& record : *records) {
    const journal::Entry entry =
        journal::entry_of(record, [](std::uint64_t) -> Result<plan::PlanPtr> { return plan_in_force(); });
    if (entry.trail.empty()) __builtin_trap();
  }
  return 0;
}
