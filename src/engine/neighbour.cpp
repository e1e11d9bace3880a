#include "engine/neighbour.h"

#include <fmt/format.h>

#include "base/text.h"
#include "wire/authenticator.h"

namespace jembatan::engine {

using wire::Code;
using wire::PacketView;

namespace {

std::string subject_of(const Neighbour& neighbour) {
  return fmt::format("server {} ({} {})", neighbour.name, forward::name_of(neighbour.purpose),
                     forward::endpoint_of(neighbour.server, neighbour.purpose).text());
}

}  // namespace

std::string full_name(const plan::Group& group, const plan::Server& server) {
  return group.name + "/" + server.name;
}

bool answers(Code reply, Code request) {
  switch (request) {
    case Code::accounting_request:
      return reply == Code::accounting_response;
    case Code::disconnect_request:
      return reply == Code::disconnect_ack || reply == Code::disconnect_nak;
    case Code::coa_request:
      return reply == Code::coa_ack || reply == Code::coa_nak;
    default:
      return reply == Code::access_accept || reply == Code::access_reject || reply == Code::access_challenge;
  }
}

std::string_view not_genuine(const PacketView& reply, const wire::Authenticator& request,
                             const plan::Server& server, Code asked) {
  if (!wire::verify_response(reply, request, server.secret)) {
    return "Response Authenticator does not verify: shared secret probably differs";
  }
  switch (wire::check_message_authenticator(reply, request, server.secret)) {
    case wire::Signature::valid:
      return {};
    case wire::Signature::wrong:
      return "Message-Authenticator does not verify";
    case wire::Signature::absent:
      break;
  }
  if (reply.find(wire::AttributeType::eap_message))
    return "EAP-Message without Message-Authenticator (RFC 3579 §3.1)";
  const bool required =
      server.message_authenticator == plan::SignatureRule::always && !wire::is_digested(asked);
  return required ? "no Message-Authenticator, which the plan requires of this server" : std::string_view{};
}

Notice up_again(const Neighbour& neighbour, Now now) {
  return {now.wall, Weight::info, subject_of(neighbour), "up again (it answered)"};
}

Notice gone_down(const Neighbour& neighbour, const plan::Group& group, bool probed, Now now) {
  return {now.wall, Weight::warning, subject_of(neighbour),
          fmt::format("down ({} attempts in a row unanswered, {} every {}): {}", group.down_after,
                      probed ? "probed" : "tried again", text_of(group.try_again_every), kWhySilent),
          neighbour.name};
}

}  // namespace jembatan::engine
