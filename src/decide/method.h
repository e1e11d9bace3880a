#pragma once
#include <variant>

#include "decide/hidden_values.h"

namespace jembatan::decide {

/// What came of looking at a credential.
struct Proof {
  bool right = false;
  std::string_view because = {};  ///< why not; a literal
  std::string detail = {};
  Octets besides = {};       ///< what the method has in the reply, right or wrong
  std::string_view by = {};  ///< the chain of methods, a literal; empty: that of the request
};

/// Another round is wanted.
struct Challenge {
  Octets attributes;              ///< of the Access-Challenge
  std::string_view because = {};  ///< why; a literal
  std::string detail = {};
};

/// A method that takes several rounds, as a state machine: each request of its conversation goes in, another
/// round or what is proved comes out. One thread at a time, not always the same one.
class Method {
 public:
  virtual ~Method() = default;
  ///   request  as the plan's edits left it
  ///   hidden   of the request and its reply
  virtual std::variant<Challenge, Proof> on(const wire::PacketView& request, HiddenValues& hidden) = 0;
};

}  // namespace jembatan::decide
