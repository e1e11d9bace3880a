#pragma once
// Which servers answer. Shared by all threads; the counts outlive a change of the plan.
#include <atomic>
#include <memory>
#include <optional>

#include "plan/plan.h"

namespace jembatan::forward {

/// What a server is asked for: each has a port and a state of its own.
enum class Purpose : std::uint8_t { access, accounting };
std::string_view name_of(Purpose purpose);  ///< "access", "accounting"

/// Health of one server for one purpose. Any thread may call it.
class ServerHealth {
 public:
  enum class Change : std::uint8_t { none, went_down, came_back };
  enum class State : std::uint8_t {
    up,
    doubted,  ///< the last attempts went unanswered, but not enough of them
    down,
  };

  /// True after `down_after` attempts in a row without an answer, until one comes.
  bool down() const { return retry_at_.load(std::memory_order_relaxed) != 0; }

  /// True if the server may be asked: it is up, or it is down and this caller is the one that gets to try it
  /// again.
  bool may_ask(const plan::Group& group, TimePoint now);
  /// A genuine reply arrived.
  Change answered(Now now);
  /// An attempt went unanswered.
  Change unanswered(const plan::Group& group, Now now);

  State state() const;
  /// Since when it is down, or up again; nothing: it has been up since the node started.
  std::optional<WallTime> since() const;
  /// Of one that is not up: "3 attempts in a row unanswered, tried again in 12s".
  std::string why(Now now) const;
  /// "silent", or "down since 2026-11-24T07:41:02.000Z, tried again in 12s".
  std::string text(Now now) const;

  /// Requests that were given to it, of a group's.
  std::uint64_t chosen_count() const { return chosen_.load(std::memory_order_relaxed); }
  void count_chosen() { chosen_.fetch_add(1, std::memory_order_relaxed); }
  /// Packets sent to it, and genuine answers, since the node started.
  std::uint64_t asked_count() const { return asked_.load(std::memory_order_relaxed); }
  std::uint64_t answered_count() const { return answered_.load(std::memory_order_relaxed); }
  void count_asked() { asked_.fetch_add(1, std::memory_order_relaxed); }
  /// Attempts without an answer since the last one.
  int silent_in_a_row() const { return silent_.load(std::memory_order_relaxed); }

 private:
  std::string next_trial(Now now) const;
  std::atomic<int> silent_{0};
  std::atomic<std::int64_t> retry_at_{0};  // steady clock, nanoseconds; 0: up
  std::atomic<std::int64_t> since_{0};     // of being down, or up again: wall clock, milliseconds; 0: never
  std::atomic<std::uint64_t> chosen_{0};
  std::atomic<std::uint64_t> asked_{0};
  std::atomic<std::uint64_t> answered_{0};
};

using HealthPtr = std::shared_ptr<ServerHealth>;

/// How it stands with the servers of a group that did not answer: "group reef-homes: reef-1 is silent, reef-2
/// is down since 2026-11-24 07:41:02Z, tried again in 12s". Names the first few of many.
std::string silence_text(const plan::Group& group, const std::vector<HealthPtr>& health, Now now);

/// Where a server listens for a purpose.
Endpoint endpoint_of(const plan::Server& server, Purpose purpose);

}  // namespace jembatan::forward
