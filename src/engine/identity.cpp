#include "engine/identity.h"

#include <fmt/format.h>

#include "base/text.h"
#include "identity/name.h"

namespace jembatan::engine {

Engine::Identity Engine::identify(const Request& request) const {
  const plan::Plan& plan = *request.live->plan;
  const auto user_name = text_in(request.packet.find(wire::AttributeType::user_name));
  const identity::Name name = identity::split(user_name);
  Identity out;
  out.full_name = user_name;
  std::string_view realm = name.realm;
  if (realm.empty() && !name.user.empty() && !plan.realm_default.assume.empty()) {
    realm = plan.realm_default.assume;
    out.full_name = fmt::format("{}@{}", name.user, realm);
    out.name_to_send = out.full_name;
  }
  out.realm = escaped(realm);
  if (realm.empty()) {
    out.destination = plan.realm_default.missing;
    out.because = user_name.empty() ? "no User-Name" : "the name has no realm";
  } else if (const plan::Realm* entry = plan.realm_named(realm)) {
    out.destination = entry->access;
    out.accounting = entry->accounting;
    if (entry->strip) out.name_to_send = name.user;
    out.because = "the plan says so for this realm";
    return out;
  } else {
    out.destination = plan.realm_default.unknown;
    out.because = "no realm of the plan matches";
  }
  if (out.destination.handling == plan::Handling::forward) out.accounting.groups = {out.destination.group};
  return out;
}

}  // namespace jembatan::engine
