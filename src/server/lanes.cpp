#include "server/lanes.h"

namespace jembatan::server {

WatchedSocket::WatchedSocket(asio::io_context& io, UdpSocket opened)
    : socket(std::move(opened)), readable(io, socket.fd()) {}

// The descriptor was lent to Asio for watching; UdpSocket closes it.
WatchedSocket::~WatchedSocket() {
  readable.release();
}

Lanes::Lanes(asio::io_context& io, std::vector<IpAddress> send_from, Tap& tap, Take take, Done done)
    : io_(io), send_from_(std::move(send_from)), tap_(tap), take_(std::move(take)), done_(std::move(done)) {}

Result<WatchedSocket*> Lanes::socket_of(Key key) {
  auto& place = open_[key];
  if (place) return place.get();
  Endpoint from{key.second == Family::v4 ? IpAddress{} : *IpAddress::parse("::"), 0};
  for (const IpAddress& address : send_from_) {
    if (address.family == key.second) from.address = address;
  }
  auto socket = UdpSocket::bind(from, SharePort::no);
  if (!socket) {
    open_.erase(key);
    return socket.error();
  }
  place = std::make_unique<WatchedSocket>(io_, std::move(*socket));
  watch(key, *place);
  return place.get();
}

void Lanes::watch(Key key, WatchedSocket& watched) {
  watched.readable.async_wait(
      asio::posix::stream_descriptor::wait_read, [this, key, &watched](const asio::error_code& error) {
        if (error) return;
        const auto received = watched.socket.receive(batch_);
        if (tap_.open()) {
          for (const Received& in : received) {
            tap_.pass(in.from, watched.socket.local(), in.octets, std::chrono::system_clock::now());
          }
        }
        for (const Received& datagram : received) take_(key.first, datagram);
        done_();
        watch(key, watched);
      });
}

Status Lanes::send(const engine::Actions& actions) {
  owner_.check();
  Status problem;
  const auto key_of = [](const engine::Actions::Ask& ask) { return Key{ask.lane, ask.to.address.family}; };
  for (std::size_t at = 0; at < actions.asks.size();) {  // mostly, all have one socket
    const Key key = key_of(actions.asks[at]);
    outgoing_.clear();
    for (; at < actions.asks.size() && key_of(actions.asks[at]) == key; ++at)
      outgoing_.push_back({actions.asks[at].to, {}, actions.view(actions.asks[at].packet)});
    const auto socket = socket_of(key);
    if (!socket) {
      problem = socket.error();
      continue;
    }
    (*socket)->socket.send(outgoing_);
    if (!tap_.open()) continue;
    for (const auto& sent : outgoing_)
      tap_.pass((*socket)->socket.local(), sent.to, sent.octets, std::chrono::system_clock::now());
  }
  return problem;
}

void Lanes::close() {
  owner_.check();
  open_.clear();
}

}  // namespace jembatan::server
