#pragma once
#include "base/clock.h"
#include "base/secret.h"

namespace jembatan::engine {

/// Somebody who is allowed to see the rejected passwords of a user for a while. Any thread.
class PasswordWatch {
 public:
  virtual ~PasswordWatch() = default;
  /// Whether this user's are wanted now; called for each refusal.
  virtual bool wants(std::string_view user, WallTime now) const = 0;
  virtual void rejected(std::string_view user, std::string_view client, WallTime now, Secret typed) = 0;
};

}  // namespace jembatan::engine
