#pragma once
// Second proofs of who somebody is, as an operator describes them, and who has which.
#include "identity/one_time_code.h"
#include "plan/model.h"

namespace jembatan::plan {

/// A proof that access rules ask for besides the password.
struct Factor {
  std::string name;
  unsigned digits = 6;                              ///< of its codes
  std::optional<condition::Condition> behind_when;  ///< the requests that have the code behind the password
  std::optional<condition::Condition> before_when;  ///< in front of it
  std::string message;                              ///< Reply-Message of the Access-Challenge
  Duration answer_within{60000};                    ///< for the code that is asked for
  unsigned tries = 1;                               ///< codes that may be tried, of one challenge
  Duration remember{0};                             ///< how long a station is not asked again
  identity::CodeLimits limits;
};

/// Somebody's token for a factor.
struct Enrolment {
  std::string user;        ///< with the realm
  std::size_t factor = 0;  ///< index into Plan::factors
  identity::Token token;
};

inline constexpr std::size_t kMostTokens = 16;  ///< of one user for one factor

}  // namespace jembatan::plan
