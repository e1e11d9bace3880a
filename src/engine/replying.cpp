#include "engine/replying.h"

#include "wire/authenticator.h"

namespace jembatan::engine {

Status put_reply(const wire::PacketView& request, wire::Code code, OctetView attributes,
                 const wire::SharedSecret& secret, wire::PacketBuilder& out) {
  if (code != wire::Code::accounting_response) (void)out.add_message_authenticator();
  Status built = out.add_encoded(attributes);
  for (const wire::Attribute attribute : request.attributes()) {
    if (!built || attribute.type != wire::AttributeType::proxy_state) continue;
    built = out.add(attribute.type, attribute.value);
  }
  if (built) wire::sign_response(out.finish(), request.authenticator(), secret);
  return built;
}

}  // namespace jembatan::engine
