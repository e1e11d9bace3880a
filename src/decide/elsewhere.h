#pragma once
// Where else somebody is online.
#include <cstddef>
#include <string_view>

#include "base/clock.h"

namespace jembatan::decide {

/// Counts the sessions that a user has. What it counts changes with the world, as randomness does: whoever
/// drives a course gives it one.
///   user   with the realm, as the plan has it: "sari@reef.example"; case does not matter
///   place  identity::place_of; empty: not told
class Elsewhere {
 public:
  Elsewhere() = default;
  Elsewhere(const Elsewhere&) = delete;
  Elsewhere& operator=(const Elsewhere&) = delete;
  virtual ~Elsewhere() = default;
  /// How many sessions of the user are open, or about to begin, at other places.
  virtual std::size_t count(std::string_view user, std::string_view place, WallTime now) const = 0;
  /// The same for somebody who is about to be let in, and counts there from now on: until a session begins
  /// there, or for a while.
  virtual std::size_t enter(std::string_view user, std::string_view place, WallTime now) = 0;
  /// They were not let in.
  virtual void leave(std::string_view user, std::string_view place) = 0;
};

/// As many as there were once.
class AsThen final : public Elsewhere {
 public:
  explicit AsThen(std::size_t count) : count_(count) {}
  std::size_t count(std::string_view /*user*/, std::string_view /*place*/, WallTime /*now*/) const override {
    return count_;
  }
  std::size_t enter(std::string_view /*user*/, std::string_view /*place*/, WallTime /*now*/) override {
    return count_;
  }
  void leave(std::string_view /*user*/, std::string_view /*place*/) override {}

 private:
  std::size_t count_;
};

/// Of another, without changing it.
class OnlyLooking final : public Elsewhere {
 public:
  explicit OnlyLooking(const Elsewhere& at) : at_(at) {}
  std::size_t count(std::string_view user, std::string_view place, WallTime now) const override {
    return at_.count(user, place, now);
  }
  std::size_t enter(std::string_view user, std::string_view place, WallTime now) override {
    return at_.count(user, place, now);
  }
  void leave(std::string_view /*user*/, std::string_view /*place*/) override {}

 private:
  const Elsewhere& at_;
};

}  // namespace jembatan::decide
