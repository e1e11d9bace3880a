#include "server/mirror.h"

#include <asio/post.hpp>

#include "host/process.h"
#include "server/log.h"

namespace jembatan::server {
namespace {

constexpr std::size_t kMostUnderWay = 4096;
constexpr std::size_t kMostHandedOver = 4096;

}  // namespace

Mirror::Mirror(Parts parts, const std::vector<IpAddress>& send_from)
    : parts_(std::move(parts)),
      mirroring_(random_, counters_, parts_.loop_mark, kMostUnderWay),
      lanes_(
          io_, send_from, parts_.tap,
          [this](std::uint16_t lane, const Received& datagram) {
            mirroring_.on_reply(lane, datagram.from, datagram.octets, turn());
          },
          [this] { carry_out(); }) {}

Mirror::~Mirror() {
  stop();
}

void Mirror::start() {
  thread_ = std::thread([this] {
    host::name_thread("mirror");
    io_.run();
  });
}

void Mirror::take(std::vector<engine::Actions::Copy>& copies) {
  const std::size_t count = copies.size();
  if (handed_over_.fetch_add(count) + count > kMostHandedOver) {
    handed_over_.fetch_sub(count);
    for (const engine::Actions::Copy& copy : copies) mirroring_.shed(copy);
  } else {
    asio::post(io_, [this, taken = std::move(copies)]() mutable {
      handed_over_.fetch_sub(taken.size());
      for (engine::Actions::Copy& copy : taken) mirroring_.offer(std::move(copy), turn());
      carry_out();
    });
  }
  copies.clear();
}

void Mirror::carry_out() {
  if (!actions_.asks.empty()) {
    if (const Status sent = lanes_.send(actions_); !sent) log_error(sent.error().at("mirroring").text);
  }
  parts_.events.take(actions_.events, actions_.notices);
  actions_.clear();
  set_timer();
}

void Mirror::set_timer() {
  const auto deadline = mirroring_.next_deadline();
  timer_.cancel();
  if (!deadline) return;
  timer_.expires_at(*deadline);
  timer_.async_wait([this](const asio::error_code& error) {
    if (error) return;
    mirroring_.on_timer(turn());
    carry_out();
  });
}

void Mirror::stop() {
  if (!thread_.joinable()) return;
  asio::post(io_, [this] {
    timer_.cancel();
    lanes_.close();
    work_.reset();
    io_.stop();
  });
  thread_.join();
}

}  // namespace jembatan::server
