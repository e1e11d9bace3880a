#pragma once
// A device for trying things out: takes Disconnect- and CoA-Requests (RFC 5176) and answers them.
#include <functional>
#include <memory>
#include <optional>

#include "base/ip.h"
#include "base/result.h"
#include "wire/packet.h"
#include "wire/shared_secret.h"

namespace jembatan::cli {

/// What a device says to all that it is asked.
struct DeviceAnswer {
  enum class How : std::uint8_t { ack, nak, silent } how{};
  std::uint32_t error_cause = 0;  ///< of a NAK
};
/// "ack", "nak", "nak 503", "silent"
Result<DeviceAnswer> parse_device_answer(std::string_view text);

/// Listens and answers, on a thread of its own, until it is destroyed.
class Device {
 public:
  /// A datagram that came, and what became of it: "acknowledged", "not genuine: …".
  struct Came {
    Octets request;
    Endpoint from;
    bool genuine = false;
    std::string what;
  };
  ///   told    called on the device's thread for each datagram
  ///   errors  Errc::conflict: the port is in use; Errc::io
  static Result<std::unique_ptr<Device>> start(const Endpoint& at, wire::SharedSecret secret,
                                               DeviceAnswer answer, std::function<void(const Came&)> told);
  virtual ~Device() = default;
};

}  // namespace jembatan::cli
