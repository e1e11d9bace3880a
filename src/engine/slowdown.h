#pragma once
#include <optional>
#include <string_view>
#include <vector>

#include "plan/model.h"

namespace jembatan::engine {

/// Wrong passwords in a row, by user and client. From the plan's slow_after on, the next password is looked
/// at after a second only, then after two, four, … up to slow_at_most. Bounded: when two share a place, the
/// one that still waits keeps it. One thread.
class Slowdown {
 public:
  explicit Slowdown(std::size_t places = 8192) : places_(places) {}

  /// How long it is until the next password is looked at; nothing if it is now.
  std::optional<Duration> wait(const plan::User& user, const plan::Client& client, TimePoint now) const;
  void wrong(const plan::User& user, const plan::Client& client, const plan::SignIn& limits, TimePoint now);
  void right(const plan::User& user, const plan::Client& client);

 private:
  struct Place {
    std::size_t key = 0;
    std::uint32_t wrong = 0;
    TimePoint until{};
  };
  static std::size_t key_of(const plan::User& user, const plan::Client& client);
  std::vector<Place> places_;
  std::size_t taken_ = 0;  // places with wrong passwords: mostly none, and then nothing is looked up
};

}  // namespace jembatan::engine
