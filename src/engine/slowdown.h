#pragma once
#include <atomic>
#include <list>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "plan/model.h"

namespace jembatan::engine {

/// Wrong passwords in a row. From the plan's slow_after on, the next password is looked at after a second
/// only, then after two, four, … up to slow_at_most.
///
/// They are counted by user, client and station (Calling-Station-Id), so that whoever guesses at one station
/// holds up nobody else; and by user and client for all stations together, with a higher threshold, so that
/// it does not help to make up stations; that count begins anew after a quarter of an hour without a wrong
/// one. A station from which the right password came is measured by itself alone. Proofs that are under way
/// count as wrong until they are known: guessing in parallel gains nothing.
///
/// One table for the whole node; any thread. Bounded: who was counted longest ago is forgotten first.
class Slowdown {
 public:
  /// Who wants to prove a password. Views only.
  struct Attempt {
    std::string_view user;  ///< with its realm; whether the plan has it or not
    std::string_view client;
    std::string_view station;  ///< may be empty
  };

  /// `seed`: by chance, so that nobody can tell which attempts share a place.
  explicit Slowdown(std::uint64_t seed, std::size_t places = 16384)
      : seed_(seed), most_(places), trusted_(kTrusted) {}

  /// How long it is until the next password is looked at; nothing if it is now. For a proof that is done at
  /// once.
  std::optional<Duration> wait(const Attempt& attempt, const plan::SignIn& limits, TimePoint now);
  /// The same for a proof that takes time: if it may begin, it is under way until end() or one of the
  /// following.
  std::optional<Duration> begin(const Attempt& attempt, const plan::SignIn& limits, TimePoint now);
  void end(const Attempt& attempt);
  void wrong(const Attempt& attempt, const plan::SignIn& limits, TimePoint now);
  void right(const Attempt& attempt);
  /// Forgets the wrong passwords of a user, from everywhere.
  ///   user     comparable, with the realm
  ///   returns  how many counts there were
  std::size_t forget(std::string_view user);

 private:
  struct Place {
    std::uint32_t wrong = 0;
    std::uint32_t under_way = 0;
    TimePoint until{};
    TimePoint last{};  // wrong one
    std::list<std::string>::iterator age;
  };
  static constexpr std::uint32_t kAllStations = 20;  // times slow_after
  static constexpr std::chrono::minutes kForgetAllStations{15};
  static constexpr std::size_t kTrusted = 1U << 16U;
  static std::string key_of(const Attempt& attempt);
  static std::string wide_key_of(const Attempt& attempt);
  std::uint64_t mark_of(const Attempt& attempt) const;
  bool trusts(const Attempt& attempt) const;
  Place& place_of(const std::string& key);
  Place* find(const std::string& key);
  std::optional<Duration> look(const Attempt& attempt, const plan::SignIn& limits, TimePoint now);
  static std::optional<Duration> left(const Place* place, std::uint32_t slow_after, TimePoint now);
  static void count(Place& place, std::uint32_t slow_after, Duration at_most, TimePoint now);
  void end(const std::string& key);

  std::uint64_t seed_;
  std::size_t most_;
  std::vector<std::atomic<std::uint64_t>> trusted_;  // marks of attempts that were right; the newest stays
  std::atomic<bool> any_{false};  // places: mostly there are none, and nothing is looked up
  std::mutex mutex_;
  std::unordered_map<std::string, Place> places_;
  std::list<std::string> ages_;  // the newest first
};

}  // namespace jembatan::engine
