#include "decide/hidden_values.h"

#include "wire/hidden.h"

namespace jembatan::decide {

using dictionary::Hiding;

namespace {

Error out_of_reach() {
  return fail(Errc::not_allowed, "hidden values are out of reach here");
}

}  // namespace

HiddenValues::HiddenValues(const HiddenWith& with, Random& random) : with_(with), random_(&random) {}

HiddenValues HiddenValues::for_nobody() {
  HiddenValues out;
  out.for_nobody_ = true;
  return out;
}

Result<Octets> HiddenValues::open(Hiding hiding, OctetView value) const {
  if (!with_) return out_of_reach();
  return hiding == Hiding::salted ? wire::reveal_salted(value, with_->request, with_->secret)
                                  : wire::reveal_password(value, with_->request, with_->secret);
}

Result<Octets> HiddenValues::hide(Hiding hiding, OctetView value) {
  if (for_nobody_) return dictionary::hide_for_nobody(hiding, value);
  if (!with_) return out_of_reach();
  if (hiding != Hiding::salted) return wire::hide_password(value, with_->request, with_->secret);
  salt_ = static_cast<std::uint16_t>(salt_ ? *salt_ + 1 : random_->below(0x8000));
  return wire::hide_salted(value, *salt_, with_->request, with_->secret);
}

}  // namespace jembatan::decide
