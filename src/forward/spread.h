#pragma once
#include <array>
#include <atomic>
#include <bitset>
#include <memory>
#include <mutex>
#include <optional>

#include "plan/plan.h"

namespace jembatan::forward {

/// Servers of a group, by their places.
using Members = std::bitset<plan::kMostServers>;

/// The places of a round of turns in which each member stands as often as its weight says, as evenly as can
/// be: after each number of turns, each member has had its share, more or less one (Tijdeman, "The chairman
/// assignment problem", 1980). Members of weight 0 stand nowhere, unless all have it: then they share evenly.
///   weights  by place; others than members do not matter
std::vector<std::uint16_t> even_round(const std::vector<std::uint32_t>& weights, const Members& members);

/// By place.
std::vector<std::uint32_t> weights_of(const plan::Group& group);

/// Divides requests among the servers of one group by their weights, in even rounds: shares are exact, and
/// nobody gets many in a row. Any thread.
class Spread {
 public:
  ///   members  among whom it is; at least one
  std::size_t next(const plan::Group& group, const Members& members);
  /// These are the members until something changes; all of them are well.
  void settle(const plan::Group& group, const Members& members, std::uint64_t changes);
  /// The next of them; nothing if something has changed since.
  std::optional<std::size_t> next_as_before(std::uint64_t changes);

  /// Where what sticks together goes while all servers are well. It is the same each time, so it is found out
  /// once for each of as many slots as there are 16-bit numbers.
  void keep(std::uint16_t slot, std::size_t server, std::uint64_t changes);
  /// Nothing if it is not known, or something has changed since a server was kept.
  std::optional<std::size_t> kept(std::uint16_t slot, std::uint64_t changes) const;

 private:
  /// Rounds for the members of late: they change when a server goes down, or has been asked in vain.
  struct Round {
    Members members;
    std::vector<std::uint16_t> places;
    std::size_t turn = 0;
  };
  static constexpr std::size_t kMostRounds = 16;
  Round& round_of(const plan::Group& group, const Members& members);
  static std::size_t take_turn(Round& round);
  std::mutex mutex_;
  std::vector<Round> rounds_;
  std::uint64_t settled_ = ~std::uint64_t{0};  // the changes at that time
  std::size_t settled_round_ = 0;
  // By slot, one more than the place; 0: not known. Made when it is first needed.
  using Kept = std::array<std::atomic<std::uint16_t>, 65536>;
  std::unique_ptr<Kept> kept_slots_;
  std::atomic<Kept*> kept_{nullptr};
  std::atomic<std::uint64_t> kept_at_{~std::uint64_t{0}};  // the changes at that time
};

using SpreadPtr = std::shared_ptr<Spread>;

}  // namespace jembatan::forward
