#pragma once
// Second factors in the course of a request: what came of one, and what is kept between two rounds.
#include "decide/decide.h"

namespace jembatan::decide {

/// What came of a second factor.
struct FactorProof {
  std::string factor;
  bool right = false;
  std::string_view because = {};  ///< why not; a literal
  std::string detail = {};        ///< "right, of 'wira's phone'"; without the code
};

/// A request that goes on with a conversation in which a code was asked for: what was proved until then.
struct Resumed {
  std::string user;                  ///< with its realm
  std::string proven;                ///< method; empty: the client vouches
  PersonPtr person;                  ///< if a directory knows the user
  std::vector<std::string> factors;  ///< that are proved
  std::string asked;                 ///< the factor whose code was asked for
  unsigned tries = 0;                ///< codes that were wrong
};
using ResumedPtr = std::shared_ptr<const Resumed>;

/// What was typed into one field, in its parts. Views.
struct Typed {
  OctetView password;
  OctetView code;  ///< empty: there is none
};
/// The factor whose code stands beside the password in such a request, as an index into Plan::factors;
/// nothing if none does, or the user has no token for it.
std::optional<std::size_t> factor_in_field(const Request& request, const Way& way);
///   factor  that factor_in_field says
Typed typed_parts(const Request& request, const Way& way, std::optional<std::size_t> factor, OctetView typed);

inline constexpr std::string_view kNotEnrolled = "the user has no token for the second factor";
inline constexpr std::string_view kNoCode = "no one-time code stands beside the password";
inline constexpr std::string_view kCodeHidden = "the method hides the one-time code: it must come by PAP";
inline constexpr std::string_view kWrongCode = "the one-time code does not serve";
inline constexpr std::string_view kCodesLocked = "too many one-time codes of the user were wrong";
inline constexpr std::string_view kCodeAsked = "a one-time code is asked for";
inline constexpr std::string_view kCodeAskedAgain = "another one-time code is asked for";
inline constexpr std::string_view kOfAnotherUser = "the conversation began with another user";
inline constexpr std::string_view kStrayState =
    "no conversation has this State: it has ended, or has expired";

}  // namespace jembatan::decide
