// Datagrams as they come from the network, through the whole life of a request.
#include "base/random.h"
#include "engine/engine.h"
#include "plan/read.h"

namespace {

using namespace jembatan;

plan::PlanPtr small_plan() {
  const std::vector<plan::SourceFile> files{{"plan.toml", R"(
[[client]]
name = "any"
address = "0.0.0.0/0"
secret = "laut"
message_authenticator = "if-present"
[realm_default]
unknown = "group:far"
missing = "here"
[[user]]
name = "a"
password = { clear = "b" }
[[group]]
name = "far"
[[group.server]]
name = "far-1"
address = "192.0.2.1"
secret = "jauh"
)"}};
  document::Problems problems;
  const auto none = [](const std::string&) -> Result<std::string> { return fail(Errc::not_found, ""); };
  return plan::read(files, {none, none}, problems);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static forward::HealthBoard board;
  static const forward::LivePlanPtr live = board.go_live(small_plan(), 1);
  NoRandom random;
  engine::Counters counters;
  engine::Engine engine(
      {{{forward::Purpose::access, {}}, {forward::Purpose::accounting, {}}}, 16, Duration(1000), 16}, random,
      counters);
  engine::Actions actions;
  engine.use(live, {{}, actions});
  const OctetView datagram(data, size);
  engine.handle({0, {}, {}, datagram}, {{}, actions});
  engine.handle({1, {}, {}, datagram}, {{}, actions});
  engine.on_reply(0, *Endpoint::parse("192.0.2.1", 1812), datagram, {{}, actions});
  engine.stop({{}, actions});
  std::uint64_t ended = 0;
  for (std::size_t i = 0; i < engine::kOutcomes; ++i)
    ended += counters.count(static_cast<engine::Outcome>(i));
  if (ended != counters.received_count()) __builtin_trap();  // every datagram ends in one outcome
  return 0;
}
