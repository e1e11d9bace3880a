#pragma once
// Which servers answer. One health for each address, port and purpose, shared by all groups and threads; it
// outlives a change of the plan.
#include <atomic>
#include <memory>
#include <optional>

#include "forward/answer_times.h"
#include "plan/plan.h"
#include "wire/code.h"

namespace jembatan::forward {

/// What a server is asked for: each has a port and a state of its own.
enum class Purpose : std::uint8_t {
  access,
  accounting,
  authorization,  ///< of sessions that last: Disconnect and CoA (RFC 5176), which clients are asked for
};
inline constexpr std::size_t kPurposes = 3;
/// What servers of groups are asked for.
inline constexpr std::array<Purpose, 2> kPurposesOfGroups{Purpose::access, Purpose::accounting};
Purpose purpose_of(wire::Code request);
/// What a server of a group is sent.
wire::Code request_for(Purpose purpose);
std::string_view name_of(Purpose purpose);  ///< "access", "accounting", "authorization"

/// Whose request it is, as a number: the same user has the same. 0: nobody in particular.
using Path = std::uint64_t;

/// Health of one server for one purpose. Any thread may call it.
///
/// A server is down when the last `down_after` attempts went unanswered, and not all of them were of the same
/// few users: what lies behind a server may be dead for one user, while it is well itself. In a group with a
/// probe, only a probe that goes unanswered takes it down.
class ServerHealth {
 public:
  enum class Change : std::uint8_t { none, went_down, came_back };
  enum class State : std::uint8_t {
    up,
    doubted,  ///< the last attempts went unanswered, but that does not show that it is down
    down,
  };
  static constexpr int kPaths = 3;    ///< so many users at least
  static constexpr int kWindow = 64;  ///< attempts that are remembered

  /// Counts what changes who is to be asked, of all servers: while it stays, choices stay.
  using Changes = std::shared_ptr<std::atomic<std::uint64_t>>;

  explicit ServerHealth(Purpose purpose = Purpose::access,
                        Changes changes = std::make_shared<std::atomic<std::uint64_t>>(0))
      : purpose_(purpose), changes_(std::move(changes)) {}

  /// Whether the node finds out by itself, in this group: Status-Server is for every purpose, a sign-in for
  /// access alone.
  bool probed(const plan::Group& group) const {
    return group.probe.status_server || (purpose_ == Purpose::access && group.probe.any());
  }

  bool down() const { return retry_at_.load(std::memory_order_relaxed) != 0; }
  /// True if requests are to go elsewhere while there is an elsewhere: it is down, or silent, and the probe
  /// has still to say whether it is down.
  bool avoided(const plan::Group& group) const {
    return down() || (probed(group) && silent_in_a_row() >= group.down_after);
  }

  /// True if this request is to find out whether a server that is down is back; once in `try_again_every`.
  /// Never in a group with a probe.
  bool try_now(const plan::Group& group, TimePoint now);
  /// False if a server that has just come back passes its turn on: its share grows over the group's warm_up.
  bool takes_turn(const plan::Group& group, TimePoint now);
  /// The part of its share that it takes now, 0 to 1.
  double warmth(const plan::Group& group, TimePoint now) const;

  /// A genuine reply arrived.
  ///   took  since it was asked; nothing: it is not known
  Change answered(Now now, std::optional<std::chrono::microseconds> took = {});
  /// An attempt went unanswered.
  Change unanswered(const plan::Group& group, Path path, Now now);
  /// A probe of the group did.
  Change probe_unanswered(const plan::Group& group, Now now);

  State state() const;
  /// Since when it is down, or up again; nothing: it has been up since the node started.
  std::optional<WallTime> since() const;
  /// Of one that is not up: "3 attempts in a row unanswered, tried again in 12s".
  std::string why(const plan::Group& group, Now now) const;
  /// "silent", or "down since 2026-11-24T07:41:02.000Z, tried again in 12s".
  std::string text(const plan::Group& group, Now now) const;

  /// Packets sent to it, and genuine answers, since the node started.
  std::uint64_t asked_count() const { return asked_.load(std::memory_order_relaxed); }
  std::uint64_t answered_count() const { return answered_.load(std::memory_order_relaxed); }
  void count_asked() { asked_.fetch_add(1, std::memory_order_relaxed); }
  /// Attempts without an answer since the last one.
  int silent_in_a_row() const { return silent_.load(std::memory_order_relaxed); }
  std::optional<WallTime> last_answer() const;
  /// Whether it has answered within that time; the wall clock does not matter.
  bool answered_within(Duration time, TimePoint now) const;
  /// Of the last attempts that ended, at most kWindow: how many, and how many were answered.
  struct Recent {
    int attempts = 0;
    int answered = 0;
  };
  Recent recent() const;
  const AnswerTimes& times() const { return times_; }
  /// Requests that wait for it.
  std::int64_t in_flight() const { return in_flight_.load(std::memory_order_relaxed); }
  void begins() { in_flight_.fetch_add(1, std::memory_order_relaxed); }
  void ends() { in_flight_.fetch_sub(1, std::memory_order_relaxed); }

 private:
  Change take_down(const plan::Group& group, Now now);
  void note(bool answered);
  int add_path(Path path);
  int paths() const;
  std::string next_trial(const plan::Group& group, Now now) const;

  void changed() { changes_->fetch_add(1, std::memory_order_release); }
  const Purpose purpose_;
  const Changes changes_;
  std::atomic<int> silent_{0};
  std::array<std::atomic<Path>, kPaths> paths_{};  // of the silent attempts; 0: none yet
  std::atomic<bool> probe_silent_{false};          // the last one
  std::atomic<std::int64_t> retry_at_{0};          // steady clock, nanoseconds; 0: up
  std::atomic<std::int64_t> came_back_{0};         // steady clock, nanoseconds; 0: never
  std::atomic<std::uint32_t> turns_{0};            // while it warms up: the parts of turns that it has had
  std::atomic<std::int64_t> since_{0};  // of being down, or up again: wall clock, milliseconds; 0: never
  std::atomic<std::int64_t> last_answer_{0};  // wall clock, milliseconds; 0: never
  std::atomic<std::int64_t> answered_at_{0};  // the same, steady clock, nanoseconds
  std::atomic<std::uint64_t> asked_{0};
  std::atomic<std::uint64_t> answered_{0};
  std::atomic<std::uint64_t> ended_{0};   // attempts
  std::atomic<std::uint64_t> window_{0};  // a bit for each, the last one lowest: it was answered
  std::atomic<std::int64_t> in_flight_{0};
  AnswerTimes times_;
};

using HealthPtr = std::shared_ptr<ServerHealth>;

/// How it stands with the servers of a group that did not answer: "group reef-homes: reef-1 is silent, reef-2
/// is down since 2026-11-24 07:41:02Z, tried again in 12s". Names the first few of many.
std::string silence_text(const plan::Group& group, const std::vector<HealthPtr>& health, Now now);

/// Where a server listens for a purpose.
Endpoint endpoint_of(const plan::Server& server, Purpose purpose);

}  // namespace jembatan::forward
