#include "server/mirror.h"

namespace jembatan::server {
namespace {

constexpr std::size_t kMostCopiesUnderWay = 4096;
constexpr std::size_t kMostHandedOver = 4096;

}  // namespace

Mirror::Mirror(const Parts& parts, const std::vector<IpAddress>& send_from)
    : mirroring_(random_, counters_, parts.loop_mark, kMostCopiesUnderWay),
      thread_({.name = "mirror",
               .on_reply =
                   [this](std::uint16_t lane, const Received& datagram, const engine::Turn& turn) {
                     mirroring_.on_reply(lane, datagram.from, datagram.octets, turn);
                   },
               .on_timer = [this](const engine::Turn& turn) { mirroring_.on_timer(turn); },
               .next_deadline = [this] { return mirroring_.next_deadline(); }},
              parts.events, parts.tap, send_from) {}

void Mirror::take(std::vector<engine::Actions::Copy>& copies) {
  const std::size_t count = copies.size();
  if (handed_over_.fetch_add(count) + count > kMostHandedOver) {
    handed_over_.fetch_sub(count);
    for (const engine::Actions::Copy& copy : copies) mirroring_.shed(copy);
  } else {
    thread_.post([this, taken = std::move(copies)](const engine::Turn& turn) {
      handed_over_.fetch_sub(taken.size());
      for (const engine::Actions::Copy& copy : taken) mirroring_.offer(copy, turn);
    });
  }
  copies.clear();
}

}  // namespace jembatan::server
