#pragma once
#include <array>
#include <asio/io_context.hpp>
#include <asio/posix/stream_descriptor.hpp>
#include <functional>
#include <map>

#include "base/owner.h"
#include "engine/actions.h"
#include "server/tap.h"
#include "server/udp_socket.h"

namespace jembatan::server {

/// A UDP socket that calls back when it has something to read. Belongs to the io_context's thread.
struct WatchedSocket {
  WatchedSocket(asio::io_context& io, UdpSocket opened);
  ~WatchedSocket();
  UdpSocket socket;
  asio::posix::stream_descriptor readable;
};

/// The sockets that requests leave from towards other servers: one source port per lane and local address,
/// opened when it is first needed. Belongs to one thread.
class Lanes {
 public:
  /// Called for each datagram, then once (`done`) when a batch has been read.
  using Take = std::function<void(std::uint16_t lane, const Received& datagram)>;
  using Done = std::function<void()>;

  Lanes(asio::io_context& io, const std::vector<IpAddress>& send_from, Tap& tap, Take take, Done done);

  /// Sends what is to be asked; gives the first problem with opening a socket, if any, and if none was given
  /// for a minute.
  Status send(const engine::Actions& actions);
  void close();

 private:
  using Key = std::pair<std::uint16_t, IpAddress>;  // the lane, and the local address
  Key key_of(const engine::Actions::Ask& ask) const;
  Result<WatchedSocket*> socket_of(Key key);
  void watch(Key key, WatchedSocket& watched);

  Owner owner_;
  asio::io_context& io_;
  std::array<IpAddress, 2> send_from_;  // by family
  Tap& tap_;
  Take take_;
  Done done_;
  ReceiveBatch batch_;
  std::vector<UdpSocket::Outgoing> outgoing_;
  std::map<Key, std::unique_ptr<WatchedSocket>> open_;
  std::optional<TimePoint> told_;  // of a problem
};

}  // namespace jembatan::server
