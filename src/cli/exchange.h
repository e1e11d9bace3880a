#pragma once
#include <string>

#include "base/clock.h"
#include "base/ip.h"
#include "wire/authenticator.h"

namespace jembatan::cli {

/// Sends one request and waits for its genuine reply, as a client does: the same octets again after each
/// wait.
struct ExchangeWish {
  Endpoint to;
  std::string from;  ///< local address; empty: the system chooses
  Duration wait{3000};
  int tries = 3;
};

enum class Ended : std::uint8_t {
  replied,      ///< a genuine reply came
  not_genuine,  ///< only replies whose authenticators do not verify
  port_closed,  ///< the other host says that nobody listens there (ICMP port unreachable)
  silent,       ///< nothing came
};

struct ExchangeResult {
  Ended ended = Ended::silent;
  Octets reply;         ///< with Ended::replied and Ended::not_genuine: the last one
  std::string problem;  ///< what is wrong with a reply that is not genuine
  wire::Signature message_authenticator{};
  std::chrono::microseconds took{0};
  int sent = 0;
};

/// "127.0.10.1", "[::1]:1812" or a host name with an optional port, looked up.
Result<Endpoint> resolve(const std::string& text, std::uint16_t default_port);

///   request  header and attributes, signed
///   errors   Errc::io: no socket, or the address cannot be used
Result<ExchangeResult> exchange(const ExchangeWish& wish, OctetView request,
                                const wire::SharedSecret& secret);

}  // namespace jembatan::cli
