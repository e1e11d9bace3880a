#pragma once
#include "engine/datagram.h"
#include "server/lanes.h"

namespace jembatan::server {

struct Listener {
  forward::Purpose purpose{};
  Endpoint at;  ///< as the node file says
  UdpSocket socket;
};

std::vector<engine::Listening> listening(const std::vector<Listener>& listeners);

/// The sockets at which the requests of clients arrive, and their replies leave. Belongs to one thread.
class Doors {
 public:
  /// Called before a batch is read, for each datagram of it, and once when it has been read.
  struct Calls {
    std::function<void()> begin = [] {};
    std::function<void(std::uint16_t door, const Received& datagram)> take;
    std::function<void()> done;
  };
  Doors(asio::io_context& io, std::vector<Listener> listeners, Tap& tap, Calls calls);

  /// Begins to take what arrives.
  void open();
  /// Takes nothing more; what the system has by now is still taken, for as long as that may last: a flood
  /// does not go on for ever.
  void close(Duration drain);
  void send(const engine::Actions& actions);

 private:
  void watch(std::size_t door);
  /// Reads one batch; false if nothing waited.
  bool receive(std::size_t door);
  Endpoint local_of(std::size_t door, const IpAddress& address) const;

  Tap& tap_;
  Calls calls_;
  std::vector<std::unique_ptr<WatchedSocket>> sockets_;
  ReceiveBatch batch_;
  std::vector<UdpSocket::Outgoing> outgoing_;
  bool closed_ = false;
};

}  // namespace jembatan::server
