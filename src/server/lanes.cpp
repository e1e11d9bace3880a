#include "server/lanes.h"

namespace jembatan::server {

WatchedSocket::WatchedSocket(asio::io_context& io, UdpSocket opened)
    : socket(std::move(opened)), readable(io, socket.fd()) {}

// The descriptor was lent to Asio for watching; UdpSocket closes it.
WatchedSocket::~WatchedSocket() {
  readable.release();
}

Lanes::Lanes(asio::io_context& io, const std::vector<IpAddress>& send_from, Tap& tap, Take take, Done done)
    : io_(io),
      send_from_{IpAddress{}, *IpAddress::parse("::")},
      tap_(tap),
      take_(std::move(take)),
      done_(std::move(done)) {
  for (const IpAddress& address : send_from) send_from_[static_cast<std::size_t>(address.family)] = address;
}

Lanes::Key Lanes::key_of(const engine::Actions::Ask& ask) const {
  return {ask.lane, ask.from.value_or(send_from_[static_cast<std::size_t>(ask.to.address.family)])};
}

Result<WatchedSocket*> Lanes::socket_of(Key key) {
  auto& place = open_[key];
  if (place) return place.get();
  auto socket = UdpSocket::bind({key.second, 0}, SharePort::no);
  if (!socket) {
    open_.erase(key);
    return socket.error().at("requests that should leave from " + key.second.text());
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
  for (std::size_t at = 0; at < actions.asks.size();) {  // mostly, all have one socket
    const Key key = key_of(actions.asks[at]);
    outgoing_.clear();
    for (; at < actions.asks.size() && key_of(actions.asks[at]) == key; ++at)
      outgoing_.push_back({actions.asks[at].to, {}, actions.view(actions.asks[at].packet)});
    const auto socket = socket_of(key);
    if (!socket) {
      const TimePoint now = std::chrono::steady_clock::now();
      if (told_ && now - *told_ < std::chrono::minutes(1)) continue;
      told_ = now;
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
