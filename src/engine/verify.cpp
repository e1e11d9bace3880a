// Who may ask: whether a packet belongs here, and comes from who it says.
#include "engine/client_check.h"
#include "engine/engine.h"
#include "identity/credential.h"
#include "wire/authenticator.h"

namespace jembatan::engine {

using forward::Purpose;
using wire::AttributeType;
using wire::Code;
using wire::PacketView;
using wire::Signature;

// While a secret is rotated, the new one is tried first, then the old one.
std::optional<plan::WhichSecret> Engine::verify(const PacketView& packet, const plan::Client& client,
                                                const Datagram& in, const Turn& turn) {
  using plan::WhichSecret;
  const bool access = settings_.listeners[in.listener].purpose == Purpose::access;
  const Code expected = access ? Code::access_request : Code::accounting_request;
  const bool status = packet.code() == Code::status_server;
  if (packet.code() != expected && !status) {
    drop(in, &client,
         {Outcome::wrong_code, "a packet that does not belong on this port", wire::name_of(packet.code())},
         turn);
    return std::nullopt;
  }
  if (packet.code() == Code::accounting_request) {  // RFC 2866 §3
    if (const auto which = secret_of_digested(packet, client, turn.now.wall)) return which;
    drop(in, &client,
         {Outcome::wrong_signature, "Request Authenticator does not verify: shared secret probably differs"},
         turn);
    return std::nullopt;
  }
  switch (wire::check_message_authenticator(packet, packet.authenticator(), client.secret)) {
    case Signature::valid:
      return WhichSecret::current;
    case Signature::wrong:
      if (takes_old_secret(client, turn.now.wall) &&
          wire::check_message_authenticator(packet, packet.authenticator(), *client.old_secret) ==
              Signature::valid) {
        return WhichSecret::old;
      }
      drop(
          in, &client,
          {Outcome::wrong_signature, "Message-Authenticator does not verify: shared secret probably differs"},
          turn);
      return std::nullopt;
    case Signature::absent:
      break;
  }
  // RFC 5997 §3 and RFC 3579 §3.1 demand it of Status-Server and of EAP, whatever the plan says.
  std::string_view because = "no Message-Authenticator, which is required of this client";
  if (!status && identity::proves_nothing(packet)) {
    drop(in, &client,
         {Outcome::unsigned_request, "neither a credential nor Message-Authenticator (RFC 3579 §3.3)"}, turn);
    return std::nullopt;
  }
  if (!status && client.message_authenticator == plan::SignatureRule::if_present &&
      !packet.find(AttributeType::eap_message)) {
    // Replies can be forged for somebody who may put octets of his own choice in front of what is signed: a
    // device has no Proxy-State, and a proxy signs.
    if (!packet.find(AttributeType::proxy_state)) return WhichSecret::current;
    because = "Proxy-State without Message-Authenticator, as in forged requests";
  }
  drop(in, &client, {Outcome::unsigned_request, because}, turn);
  return std::nullopt;
}

}  // namespace jembatan::engine
