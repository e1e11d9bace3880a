#include "plan/device.h"

#include <limits>

namespace jembatan::plan {
namespace {

// Who asks waits for it, and may be some hops away (RFC 5080 §2.2.1).
constexpr Duration kDeviceAnswersWithin{2000};
constexpr int kDeviceAttempts = 4;

}  // namespace

Group device_of(const Client& client) {
  Group out;
  out.name = "client";
  out.answer_within = kDeviceAnswersWithin;
  out.attempts = kDeviceAttempts;
  out.down_after = std::numeric_limits<int>::max();  // nobody else can be asked
  const auto add = [&](const wire::SharedSecret& secret) {
    Server& server = out.servers.emplace_back();
    server.name = server.entry = client.name;
    server.address = client.address.address;
    server.authorization_port = client.authorization_port;
    server.secret = secret;
  };
  add(client.secret);
  if (client.old_secret) add(*client.old_secret);
  return out;
}

}  // namespace jembatan::plan
