#pragma once
// Finds out what is wrong with a directory, step by step, each with its own verdict.
#include <functional>

#include "directory/look_up.h"

namespace jembatan::directory {

struct CheckStep {
  enum class Verdict : std::uint8_t { good, doubtful, bad };
  std::string what;    ///< "connect", "password"
  std::string server;  ///< the URL that it is about
  Verdict verdict = Verdict::good;
  std::string text;    ///< what was found
  std::string advice;  ///< the next thing to do; empty: nothing
};

/// Whom to look for, and with which password.
struct CheckWish {
  std::optional<Wanted> person;
  std::optional<Secret> typed;
  WallTime now;
  /// The addresses of a host name, as text.
  std::function<Result<std::string>(const std::string& host)> resolve;
};

/// Asks each server whether it can be reached, and the first that can about base, person, groups and
/// password. Ends where nothing is left to ask. Blocks.
std::vector<CheckStep> check(const plan::Directory& directory, const CheckWish& wish);

}  // namespace jembatan::directory
