#include "server/doors.h"

namespace jembatan::server {

std::vector<engine::Listening> listening(const std::vector<Listener>& listeners) {
  std::vector<engine::Listening> out;
  for (const Listener& listener : listeners) out.push_back({listener.purpose, listener.at});
  return out;
}

Doors::Doors(asio::io_context& io, std::vector<Listener> listeners, Tap& tap, Calls calls)
    : tap_(tap), calls_(std::move(calls)) {
  for (Listener& listener : listeners) {
    sockets_.push_back(std::make_unique<WatchedSocket>(io, std::move(listener.socket)));
  }
}

void Doors::open() {
  for (std::size_t i = 0; i < sockets_.size(); ++i) watch(i);
}

void Doors::watch(std::size_t door) {
  sockets_[door]->readable.async_wait(asio::posix::stream_descriptor::wait_read,
                                      [this, door](const asio::error_code& error) {
                                        if (error) return;
                                        receive(door);
                                        if (!closed_) watch(door);
                                      });
}

Endpoint Doors::local_of(std::size_t door, const IpAddress& address) const {
  return {address, sockets_[door]->socket.local().port};
}

bool Doors::receive(std::size_t door) {
  calls_.begin();
  const auto received = sockets_[door]->socket.receive(batch_);
  if (tap_.open()) {
    for (const Received& in : received)
      tap_.pass(in.from, local_of(door, in.to), in.octets, std::chrono::system_clock::now());
  }
  for (const Received& in : received) calls_.take(static_cast<std::uint16_t>(door), in);
  calls_.done();
  return !received.empty();
}

void Doors::send(const engine::Actions& actions) {
  for (std::size_t at = 0; at < actions.replies.size();) {
    const std::uint16_t door = actions.replies[at].listener;
    outgoing_.clear();
    for (; at < actions.replies.size() && actions.replies[at].listener == door; ++at) {
      const auto& reply = actions.replies[at];
      outgoing_.push_back({reply.to, reply.from, actions.view(reply.packet)});
    }
    sockets_[door]->socket.send(outgoing_);
    if (!tap_.open()) continue;
    for (const auto& sent : outgoing_)
      tap_.pass(local_of(door, sent.from), sent.to, sent.octets, std::chrono::system_clock::now());
  }
}

void Doors::close(Duration drain) {
  closed_ = true;
  for (std::size_t i = 0; i < sockets_.size(); ++i) {
    sockets_[i]->readable.cancel();
    const TimePoint until = std::chrono::steady_clock::now() + drain;
    while (std::chrono::steady_clock::now() < until && receive(i)) continue;
  }
}

}  // namespace jembatan::server
