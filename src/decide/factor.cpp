#include "decide/factor.h"

#include <algorithm>

namespace jembatan::decide {

namespace {

bool holds(const std::optional<condition::Condition>& when, const condition::Facts& facts) {
  return when && when->holds(facts);
}

bool are_digits(OctetView octets) {
  return std::all_of(octets.begin(), octets.end(), [](std::uint8_t o) { return o >= '0' && o <= '9'; });
}

}  // namespace

std::optional<std::size_t> factor_in_field(const Request& request, const Way& way) {
  const auto& factors = request.plan.factors;
  if (factors.empty()) return std::nullopt;
  const condition::Facts facts = facts_of(request, way, nullptr);
  for (std::size_t i = 0; i < factors.size(); ++i) {
    if ((holds(factors[i].behind_when, facts) || holds(factors[i].before_when, facts)) &&
        !request.plan.tokens_of(way.full_name, i).empty())
      return i;
  }
  return std::nullopt;
}

Typed typed_parts(const Request& request, const Way& way, std::optional<std::size_t> factor,
                  OctetView typed) {
  if (!factor) return {typed, {}};
  const plan::Factor& which = request.plan.factors[*factor];
  if (typed.size() < which.digits) return {typed, {}};
  const std::size_t rest = typed.size() - which.digits;
  const bool behind = holds(which.behind_when, facts_of(request, way, nullptr));
  const Typed out = behind ? Typed{typed.first(rest), typed.subspan(rest)}
                           : Typed{typed.subspan(which.digits), typed.first(which.digits)};
  return are_digits(out.code) ? out : Typed{typed, {}};
}

}  // namespace jembatan::decide
