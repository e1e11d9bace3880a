#include "engine/onward.h"

#include "base/text_hash.h"
#include "decide/rehide.h"
#include "forward/sticky.h"

namespace jembatan::engine {

using wire::AttributeType;
using wire::PacketView;

forward::Asker asker_in(const plan::Group& group, const decide::Course& course, std::string_view client) {
  const std::string& user = course.way().full_name;
  forward::Asker out;
  out.path = user.empty() ? 0 : stable_number(user);
  if (group.sticky == plan::Sticky::no) return out;
  const PacketView& packet = course.packet();
  out.sticks =
      forward::tie_of(group.sticky, {user, wire::text_in(packet.find(AttributeType::calling_station_id)),
                                     client, wire::text_in(packet.find(AttributeType::acct_session_id))});
  return out;
}

Status put_onward(decide::Course& course, const wire::SharedSecret& secret, const Onward& to,
                  wire::PacketBuilder& out) {
  const auto changed = course.to_send(to.group, to.server);
  const PacketView packet = changed ? *PacketView::parse(*changed) : course.packet();
  const decide::Rehiding rehiding{*course.request().plan.catalogue,
                                  {secret, packet.authenticator()},
                                  {to.server.secret, to.authenticator}};
  bool chap = false;
  bool challenge = false;
  for (const wire::Attribute attribute : packet.attributes()) {
    chap = chap || attribute.type == AttributeType::chap_password;
    challenge = challenge || attribute.type == AttributeType::chap_challenge;
    if (attribute.type == AttributeType::message_authenticator) continue;
    if (const Status added = rehiding.copy(packet, attribute, out); !added) return added;
  }
  if (chap && !challenge) {  // the challenge was the Request Authenticator, which changes (RFC 2865 §5.40)
    const Status added = out.add(AttributeType::chap_challenge, OctetView(packet.authenticator()));
    if (!added) return added;
  }
  return out.add(AttributeType::proxy_state, to.mark);  // behind all others (RFC 2865 §5.33)
}

}  // namespace jembatan::engine
