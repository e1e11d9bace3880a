#include "cli/exchange.h"

#include <fmt/format.h>
#include <netdb.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <memory>

namespace jembatan::cli {
namespace {

using Clock = std::chrono::steady_clock;
using AddressList = std::unique_ptr<addrinfo, decltype(&freeaddrinfo)>;

Result<AddressList> look_up(const std::string& host, const std::string& port, int flags) {
  addrinfo hints{};
  hints.ai_socktype = SOCK_DGRAM;
  hints.ai_flags = flags;
  addrinfo* found = nullptr;
  const int failed = getaddrinfo(host.c_str(), port.c_str(), &hints, &found);
  if (failed != 0) return fail(Errc::not_found, fmt::format("'{}': {}", host, gai_strerror(failed)));
  return AddressList(found, &freeaddrinfo);
}

class Socket {
 public:
  explicit Socket(int fd) : fd_(fd) {}
  ~Socket() { ::close(fd_); }
  Socket(const Socket&) = delete;
  Socket& operator=(const Socket&) = delete;
  int fd() const { return fd_; }

 private:
  int fd_;
};

Status connect_to(int fd, const ExchangeWish& wish) {
  const auto reason = [&](const std::string& what) {
    return fail(Errc::io, fmt::format("{}: {}", what, std::strerror(errno)));
  };
  if (!wish.from.empty()) {
    const auto from = look_up(wish.from, "0", AI_NUMERICHOST);
    if (!from) return from.error();
    if (::bind(fd, (*from)->ai_addr, (*from)->ai_addrlen) != 0) return reason("address " + wish.from);
  }
  const auto to = look_up(wish.to.address.text(), std::to_string(wish.to.port), AI_NUMERICHOST);
  if (!to) return to.error();
  if (::connect(fd, (*to)->ai_addr, (*to)->ai_addrlen) != 0) return reason("address " + wish.to.text());
  return {};
}

// Looks at one datagram; true if it is the genuine reply.
bool judge(OctetView datagram, OctetView request, const wire::SharedSecret& secret, ExchangeResult& out) {
  const auto reply = wire::PacketView::parse(datagram);
  const wire::Authenticator authenticator = wire::PacketView::parse(request)->authenticator();
  if (!reply) {
    out.problem = reply.error().text;
  } else if (reply->identifier() != request[1]) {
    out.problem = fmt::format("Identifier {} instead of {}", reply->identifier(), request[1]);
  } else {
    out.reply.assign(reply->octets().begin(), reply->octets().end());
    out.message_authenticator = wire::check_message_authenticator(*reply, authenticator, secret);
    if (!wire::verify_response(*reply, authenticator, secret)) {
      out.problem = "its Response Authenticator does not verify";
    } else if (out.message_authenticator == wire::Signature::wrong) {
      out.problem = "its Message-Authenticator does not verify";
    } else {
      out.ended = Ended::replied;
      return true;
    }
  }
  out.ended = Ended::not_genuine;
  return false;
}

}  // namespace

Result<Endpoint> resolve(const std::string& text, std::uint16_t default_port) {
  if (const auto direct = Endpoint::parse(text, default_port)) return direct;
  const std::size_t colon = text.rfind(':');
  const std::string host = text.substr(0, colon);
  const auto port =
      Endpoint::parse("0.0.0.0" + (colon == std::string::npos ? "" : text.substr(colon)), default_port);
  if (!port) return fail(Errc::malformed, fmt::format("'{}' is not HOST or HOST:PORT", text));
  const auto found = look_up(host, "0", AI_ADDRCONFIG);
  if (!found) return found.error();
  Endpoint out{{}, port->port};
  if ((*found)->ai_family == AF_INET) {
    const auto* v4 = reinterpret_cast<const sockaddr_in*>((*found)->ai_addr);
    out.address = IpAddress::from_v4(reinterpret_cast<const std::uint8_t*>(&v4->sin_addr));
  } else {
    const auto* v6 = reinterpret_cast<const sockaddr_in6*>((*found)->ai_addr);
    out.address = IpAddress::from_v6(reinterpret_cast<const std::uint8_t*>(&v6->sin6_addr));
  }
  return out;
}

Result<ExchangeResult> exchange(const ExchangeWish& wish, OctetView request,
                                const wire::SharedSecret& secret) {
  const int family = wish.to.address.family == Family::v4 ? AF_INET : AF_INET6;
  const int fd = ::socket(family, SOCK_DGRAM | SOCK_CLOEXEC, 0);
  if (fd < 0) return fail(Errc::io, fmt::format("socket: {}", std::strerror(errno)));
  const Socket socket(fd);
  if (const Status connected = connect_to(fd, wish); !connected) return connected.error();
  ExchangeResult out;
  out.ended = Ended::silent;
  const auto started = Clock::now();
  for (out.sent = 1; out.sent <= wish.tries; ++out.sent) {
    const bool refused = ::send(fd, request.data(), request.size(), 0) < 0 && errno == ECONNREFUSED;
    const auto until = Clock::now() + wish.wait;
    while (!refused) {
      const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(until - Clock::now()).count();
      pollfd wait{fd, POLLIN, 0};
      if (left <= 0 || poll(&wait, 1, static_cast<int>(left)) <= 0) break;
      std::uint8_t buffer[wire::kMaxPacket];
      const ssize_t size = ::recv(fd, buffer, sizeof(buffer), 0);
      if (size < 0 && errno == ECONNREFUSED) {
        out.ended = Ended::port_closed;
        return out;
      }
      out.took = std::chrono::duration_cast<std::chrono::microseconds>(Clock::now() - started);
      if (size > 0 && judge({buffer, static_cast<std::size_t>(size)}, request, secret, out)) return out;
    }
    if (refused) {
      out.ended = Ended::port_closed;
      return out;
    }
  }
  out.sent = wish.tries;
  return out;
}

}  // namespace jembatan::cli
