#include "engine/client_check.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "wire/authenticator.h"

namespace jembatan::engine {

using decide::Outcome;
using plan::WhichSecret;
using wire::AttributeType;

namespace {

// What a datagram of a stranger says about itself; it may not be true.
std::string claims_of(OctetView octets) {
  const auto packet = wire::PacketView::parse(octets);
  if (!packet) return "not even a well-formed packet";
  std::string out;
  const auto name = text_in(packet->find(AttributeType::nas_identifier));
  if (!name.empty()) out = fmt::format("it calls itself '{}'", escaped(name));
  const auto user = text_in(packet->find(AttributeType::user_name));
  if (!user.empty()) out += fmt::format("{}its user is '{}'", out.empty() ? "" : ", ", escaped(user));
  return out;
}

bool may_use(const plan::Client& client, const Listening& listener, const IpAddress& to) {
  if (client.listeners.empty()) return true;
  const std::string_view purpose = forward::name_of(listener.purpose);
  const std::string asked = Endpoint{to, listener.at.port}.text();  // of a listener on all addresses
  return std::any_of(client.listeners.begin(), client.listeners.end(), [&](const std::string& allowed) {
    return allowed == purpose || allowed == listener.at.text() || allowed == asked;
  });
}

}  // namespace

std::optional<decide::Ending> turned_away(const plan::Client* client, const Listening& listener,
                                          const Datagram& in) {
  if (client == nullptr)
    return decide::Ending{Outcome::unknown_client, "nobody entered this address", claims_of(in.octets)};
  if (!client->enabled) return decide::Ending{Outcome::client_off, "the client is switched off"};
  if (!may_use(*client, listener, in.to))
    return decide::Ending{Outcome::wrong_listener, "the client may not use this listener"};
  return std::nullopt;
}

std::optional<decide::Ending> not_the_first(Repeats::Seen seen) {
  switch (seen) {
    case Repeats::Seen::waiting:
      return decide::Ending{Outcome::repeat_waiting, "the first is still being worked on"};
    case Repeats::Seen::full:
      return decide::Ending{Outcome::overloaded, "too many requests are being worked on"};
    case Repeats::Seen::answered:
      return decide::Ending{Outcome::repeat_answered, "the same reply again"};
    case Repeats::Seen::fresh:
      break;
  }
  return std::nullopt;
}

std::optional<decide::Ending> too_many(const plan::Client& client, forward::ClientActivity& activity,
                                       Now now) {
  if (client.requests_per_second == 0 || activity.admit(client.requests_per_second, now.steady))
    return std::nullopt;
  return decide::Ending{Outcome::over_limit, "more requests than the client's requests_per_second"};
}

bool takes_old_secret(const plan::Client& client, WallTime now) {
  return client.old_secret && (!client.old_secret_until || now < *client.old_secret_until);
}

std::optional<WhichSecret> secret_of_digested(const wire::PacketView& packet, const plan::Client& client,
                                              WallTime now) {
  if (wire::verify_digested_request(packet, client.secret)) return WhichSecret::current;
  if (takes_old_secret(client, now) && wire::verify_digested_request(packet, *client.old_secret))
    return WhichSecret::old;
  return std::nullopt;
}

}  // namespace jembatan::engine
