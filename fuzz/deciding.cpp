// A packet from outside, decided by a plan with every kind of rule, name and edit, told in words, and kept
// without its secrets.
#include <cstdlib>

#include "decide/explain.h"
#include "identity/name.h"
#include "journal/scrub.h"
#include "plan/read.h"

namespace {

using namespace jembatan;

constexpr const char* kPlan = R"(
[sign_in]
name_forms = ["realm!user@via", "user@realm", 'realm\user', "realm/user", "realm!user"]
[[client]]
name = "deck"
address = "0.0.0.0/0"
secret = "a secret of 32 characters, or so."
labels = { place = "reef/kerapu" }
[[realm]]
name = "reef.example"
aliases = ["reef"]
handle = "here"
[[realm]]
name = "wlan.mncNNN.mccNNN.3gppnetwork.org"
handle = "refuse"
[realm_default]
unknown = "here"
missing = { assume = "reef.example" }
[[edit]]
name = "all at once"
at = "received"
when = 'any User-Name matches "^(?P<head>.*)$" or count(Class) < 3'
rewrite = { Filter-Id = '^(?P<first>.)(?P<rest>.*)$' }
copy = { Filter-Id = "Class", MS-CHAP-Challenge = "Class" }
rename = { Login-LAT-Port = "NAS-Port-Id", MS-CHAP-Response = "MS-CHAP2-Response" }
remove = ["Connect-Info", "MS-MPPE-Send-Key", "Tunnel-Private-Group-ID"]
set = { Filter-Id = "{match.rest}", NAS-Identifier = "{User-Name}", "Tunnel-Type[1]" = "VLAN" }
add = { Class = "{match.first}" }
[[edit]]
name = "back"
at = "replying"
set = { Reply-Message = "{user} {realm}" }
[[access]]
name = "vouched"
proof = "client"
permit = true
reply = { Filter-Id = "{Called-Station-Id}-{NAS-IP-Address}", Class = "{method}" }
)";

const plan::PlanPtr& plan_in_force() {
  static const plan::PlanPtr plan = [] {
    const std::vector<plan::SourceFile> files{{"fuzz.toml", kPlan}};
    document::Problems problems;
    return plan::read(files, {}, problems);
  }();
  return plan;
}

void names(std::string_view text) {
  const std::string once = identity::comparable(text);
  const auto mapped = identity::case_mapped(text);
  if (mapped && identity::case_mapped(*mapped) != mapped) std::abort();
  if (mapped && identity::comparable(once) != once) std::abort();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  names(text_of(OctetView(data, size)));
  const auto packet = wire::PacketView::parse({data, size});
  if (!packet) return 0;
  const plan::Plan& plan = *plan_in_force();
  for (const bool accounting : {false, true}) {
    const decide::Request request{plan, *packet, plan.clients[0], accounting, {}};
    if (decide::explain(request, decide::Assumed{!accounting}).lines.empty()) std::abort();
  }
  Octets kept;
  journal::add_without_secrets(*packet, *plan.catalogue, kept);
  if (kept.size() > packet->octets().size()) std::abort();
  return 0;
}
