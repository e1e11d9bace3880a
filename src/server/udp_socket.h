#pragma once
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "base/ip.h"

namespace jembatan::server {

struct Received {
  Endpoint from;
  IpAddress to;  ///< the local address it was sent to
  OctetView octets;
};

/// Room for one call of recvmmsg; reused from call to call. One thread.
class ReceiveBatch {
 public:
  static constexpr std::size_t kMost = 64;
  ReceiveBatch();
  ~ReceiveBatch();
  ReceiveBatch(ReceiveBatch&&) noexcept;

 private:
  friend class UdpSocket;
  struct Room;
  std::unique_ptr<Room> room_;
  std::vector<Received> received_;
};

/// The local address that the system would send from towards an endpoint; nothing if there is no way there.
std::optional<IpAddress> local_address_towards(const Endpoint& endpoint);

enum class SharePort : std::uint8_t { no, yes };

/// A non-blocking UDP socket. Owned by one thread.
class UdpSocket {
 public:
  /// Binds. Sockets bound with SharePort::yes divide what arrives among them (SO_REUSEPORT).
  ///   errors  Errc::conflict: the port is in use, with the process that has it where the system tells;
  ///   Errc::io
  static Result<UdpSocket> bind(const Endpoint& endpoint, SharePort share);

  UdpSocket(UdpSocket&& other) noexcept;
  UdpSocket& operator=(UdpSocket&& other) noexcept;
  ~UdpSocket();

  int fd() const { return fd_; }
  /// Where it is bound, with the port that the system chose if 0 was asked for.
  Endpoint local() const;
  /// Takes up to ReceiveBatch::kMost datagrams; none if none wait. The views live until the next call.
  std::span<const Received> receive(ReceiveBatch& batch);

  struct Outgoing {
    Endpoint to;
    IpAddress from;  ///< used if the socket is bound to no particular address
    OctetView octets;
  };
  /// Sends all; what the system refuses (no room, no way there) is lost, as datagrams may be.
  ///   returns  how many were taken
  std::size_t send(std::span<const Outgoing> datagrams);

 private:
  UdpSocket(int fd, Endpoint bound) : fd_(fd), bound_(bound) {}
  int fd_ = -1;
  Endpoint bound_;
};

}  // namespace jembatan::server
