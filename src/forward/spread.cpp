#include "forward/spread.h"

#include <algorithm>
#include <numeric>

namespace jembatan::forward {
namespace {

constexpr std::uint64_t kLongest = 4096;  // turns in a round: finer shares than this are rounded

struct Share {
  std::uint16_t place = 0;
  std::uint64_t weight = 0;
  std::uint64_t had = 0;  // turns
};

std::vector<Share> shares_of(const std::vector<std::uint32_t>& weights, const Members& members) {
  std::vector<Share> out;
  std::uint64_t total = 0;
  std::uint64_t divisor = 0;
  for (std::size_t i = 0; i < weights.size(); ++i) {
    if (!members[i]) continue;
    total += weights[i];
    divisor = std::gcd(divisor, std::uint64_t{weights[i]});
    out.push_back({static_cast<std::uint16_t>(i), weights[i]});
  }
  if (total == 0) {
    for (Share& share : out) share.weight = 1;
    return out;
  }
  std::erase_if(out, [](const Share& share) { return share.weight == 0; });
  for (Share& share : out) share.weight /= divisor;
  total /= divisor;
  if (total <= kLongest) return out;
  for (Share& share : out) share.weight = std::max<std::uint64_t>(1, share.weight * kLongest / total);
  return out;
}

}  // namespace

// Each turn goes to the one whose next turn is due first, among those who have waited for theirs long enough:
// with n members, 1/(2n-2) of it.
std::vector<std::uint16_t> even_round(const std::vector<std::uint32_t>& weights, const Members& members) {
  std::vector<Share> shares = shares_of(weights, members);
  const std::uint64_t turns =
      std::accumulate(shares.begin(), shares.end(), std::uint64_t{0},
                      [](std::uint64_t sum, const Share& one) { return sum + one.weight; });
  const std::uint64_t parts = shares.size() < 2 ? 2 : 2 * shares.size() - 2;
  std::vector<std::uint16_t> out;
  out.reserve(turns);
  for (std::uint64_t turn = 1; turn <= turns; ++turn) {
    Share* first = nullptr;
    for (Share& share : shares) {
      if (share.weight * turn * parts < (share.had * parts + 1) * turns) continue;  // too early
      const auto due_before = [&](const Share& other) {
        return ((share.had + 1) * parts - 1) * other.weight < ((other.had + 1) * parts - 1) * share.weight;
      };
      if (first == nullptr || due_before(*first)) first = &share;
    }
    if (first == nullptr) first = &shares.front();  // rounding: somebody has to
    ++first->had;
    out.push_back(first->place);
  }
  return out;
}

std::vector<std::uint32_t> weights_of(const plan::Group& group) {
  std::vector<std::uint32_t> out;
  std::uint32_t parts = 1;  // so that what the servers of one entry share can be whole numbers: up to 840
  for (const plan::Server& server : group.servers)
    parts = std::lcm(parts, std::uint32_t{server.of_its_entry});
  for (const plan::Server& server : group.servers)
    out.push_back(server.weight * (parts / server.of_its_entry));
  return out;
}

Spread::Round& Spread::round_of(const plan::Group& group, const Members& members) {
  const auto known = std::find_if(rounds_.begin(), rounds_.end(),
                                  [&](const Round& round) { return round.members == members; });
  if (known != rounds_.end()) return *known;
  if (rounds_.size() == kMostRounds) {
    rounds_.erase(rounds_.begin());
    settled_ = ~std::uint64_t{0};  // the places of the others have changed
  }
  rounds_.push_back({members, even_round(weights_of(group), members)});
  return rounds_.back();
}

std::size_t Spread::take_turn(Round& round) {
  const std::size_t out = round.places[round.turn];
  if (++round.turn == round.places.size()) round.turn = 0;
  return out;
}

std::size_t Spread::next(const plan::Group& group, const Members& members) {
  const std::lock_guard lock(mutex_);
  return take_turn(round_of(group, members));
}

void Spread::settle(const plan::Group& group, const Members& members, std::uint64_t changes) {
  const std::lock_guard lock(mutex_);
  settled_round_ = static_cast<std::size_t>(&round_of(group, members) - rounds_.data());
  settled_ = changes;
}

std::optional<std::size_t> Spread::next_as_before(std::uint64_t changes) {
  const std::lock_guard lock(mutex_);
  if (settled_ != changes) return std::nullopt;
  return take_turn(rounds_[settled_round_]);
}

void Spread::keep(std::uint16_t slot, std::size_t server, std::uint64_t changes) {
  Kept* kept = kept_.load(std::memory_order_acquire);
  if (kept == nullptr) {
    const std::lock_guard lock(mutex_);
    if (!kept_slots_) kept_slots_ = std::make_unique<Kept>();
    kept = kept_slots_.get();
    kept_.store(kept, std::memory_order_release);
  }
  (*kept)[slot].store(static_cast<std::uint16_t>(server + 1), std::memory_order_relaxed);
  kept_at_.store(changes, std::memory_order_release);
}

std::optional<std::size_t> Spread::kept(std::uint16_t slot, std::uint64_t changes) const {
  if (kept_at_.load(std::memory_order_acquire) != changes) return std::nullopt;
  const std::uint16_t known = (*kept_.load(std::memory_order_acquire))[slot].load(std::memory_order_relaxed);
  if (known == 0) return std::nullopt;
  return known - 1U;
}

}  // namespace jembatan::forward
