#include "cli/device.h"

#include <fmt/format.h>
#include <poll.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <thread>

#include "base/text.h"
#include "host/socket_address.h"
#include "wire/authenticator.h"
#include "wire/builder.h"

namespace jembatan::cli {
namespace {

using wire::AttributeType;
using wire::Code;
using How = DeviceAnswer::How;

constexpr int kLookEvery = 50;  // ms, whether it is to end

class Listening final : public Device {
 public:
  Listening(int fd, wire::SharedSecret secret, DeviceAnswer answer, std::function<void(const Came&)> told)
      : fd_(fd), secret_(std::move(secret)), answer_(answer), told_(std::move(told)), thread_([this] {
          run();
        }) {}
  ~Listening() override {
    stop_ = true;
    thread_.join();
    ::close(fd_);
  }
  Listening(const Listening&) = delete;
  Listening& operator=(const Listening&) = delete;

 private:
  void run() {
    while (!stop_) {
      pollfd ready{fd_, POLLIN, 0};
      if (::poll(&ready, 1, kLookEvery) <= 0) continue;
      std::array<std::uint8_t, wire::kMaxPacket + 1> room{};
      host::SocketAddress from;
      const auto got = ::recvfrom(fd_, room.data(), room.size(), 0, from.generic(), &from.length);
      if (got > 0) take({room.data(), static_cast<std::size_t>(got)}, from);
    }
  }

  void take(OctetView datagram, host::SocketAddress& from) {
    Came came{{datagram.begin(), datagram.end()}, host::endpoint_of(from.storage), false, ""};
    const auto request = wire::PacketView::parse(datagram);
    const bool known =
        request && (request->code() == Code::disconnect_request || request->code() == Code::coa_request);
    if (!known) {
      came.what = "no Disconnect- or CoA-Request";
    } else if (!wire::verify_digested_request(*request, secret_) ||
               wire::check_message_authenticator(*request, {}, secret_) == wire::Signature::wrong) {
      came.what = "not genuine: another secret";
    } else {
      came.genuine = true;
      came.what = answer_.how == How::silent ? "not answered" : reply(*request, from);
    }
    told_(came);
  }

  std::string reply(const wire::PacketView& request, host::SocketAddress& to) const {
    const bool ack = answer_.how == How::ack;
    const bool disconnect = request.code() == Code::disconnect_request;
    const Code code = disconnect ? (ack ? Code::disconnect_ack : Code::disconnect_nak)
                                 : (ack ? Code::coa_ack : Code::coa_nak);
    wire::PacketBuilder packet(code, request.identifier(), request.authenticator());
    (void)packet.add_message_authenticator();
    if (answer_.error_cause != 0) (void)packet.add(AttributeType::error_cause, answer_.error_cause);
    for (const wire::Attribute attribute : request.attributes())
      if (attribute.type == AttributeType::proxy_state) (void)packet.add(attribute.type, attribute.value);
    const OctetSpan octets = packet.finish();
    wire::sign_response(octets, request.authenticator(), secret_);
    const auto sent = ::sendto(fd_, octets.data(), octets.size(), 0, to.generic(), to.length);
    return sent < 0 ? fmt::format("{} could not be sent: {}", wire::name_of(code), std::strerror(errno))
                    : "answered with " + wire::name_of(code);
  }

  int fd_;
  wire::SharedSecret secret_;
  DeviceAnswer answer_;
  std::function<void(const Came&)> told_;
  std::atomic<bool> stop_{false};
  std::thread thread_;
};

}  // namespace

Result<DeviceAnswer> parse_device_answer(std::string_view text) {
  if (text == "ack") return DeviceAnswer{How::ack, 0};
  if (text == "nak") return DeviceAnswer{How::nak, 0};
  if (text == "silent") return DeviceAnswer{How::silent, 0};
  DeviceAnswer out{How::nak, 0};
  if (text.starts_with("nak ")) {
    const std::string_view cause = text.substr(4);
    const auto [end, wrong] = std::from_chars(cause.data(), cause.data() + cause.size(), out.error_cause);
    if (wrong == std::errc() && end == cause.data() + cause.size() && out.error_cause < 1000) return out;
  }
  return fail(
      Errc::malformed,
      fmt::format("'{}' is no answer of a device; allowed: ack, nak, nak 503 (an Error-Cause), silent",
                  escaped(text)));
}

Result<std::unique_ptr<Device>> Device::start(const Endpoint& at, wire::SharedSecret secret,
                                              DeviceAnswer answer, std::function<void(const Came&)> told) {
  host::SocketAddress address(at);
  const int fd = ::socket(address.storage.ss_family, SOCK_DGRAM | SOCK_CLOEXEC, 0);
  if (fd < 0) return fail(Errc::io, fmt::format("socket: {}", std::strerror(errno)));
  if (::bind(fd, address.generic(), address.length) != 0) {
    const Error problem = fail(errno == EADDRINUSE ? Errc::conflict : Errc::io,
                               fmt::format("{}: {}", at.text(), std::strerror(errno)));
    ::close(fd);
    return problem;
  }
  return std::unique_ptr<Device>(new Listening(fd, std::move(secret), answer, std::move(told)));
}

}  // namespace jembatan::cli
