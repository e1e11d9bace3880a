#pragma once
#include "base/random.h"
#include "dictionary/encode.h"
#include "wire/packet.h"
#include "wire/shared_secret.h"

namespace jembatan::decide {

/// What values of a packet are hidden with: the secret of its hop, and the Request Authenticator of the
/// request that the packet is, or answers.
struct HiddenWith {
  const wire::SharedSecret& secret;
  wire::Authenticator request;
};

/// Opens and hides the hidden values of the packets of one hop: a request, and what answers it. Does not own
/// the secret. Salts of one object differ (RFC 2868 §3.5).
class HiddenValues {
 public:
  /// Out of reach: an edit that needs one is not done.
  HiddenValues() = default;
  HiddenValues(const HiddenWith& with, Random& random);
  /// For packets that are only told about: nothing can be opened, and what is hidden has the right length.
  static HiddenValues for_nobody();

  ///   errors  Errc::not_allowed: out of reach; those of wire::reveal_password, wire::reveal_salted
  Result<Octets> open(dictionary::Hiding hiding, OctetView value) const;
  ///   errors  Errc::not_allowed: out of reach; those of wire::hide_password, wire::hide_salted
  Result<Octets> hide(dictionary::Hiding hiding, OctetView value);

  /// Nothing if they are out of reach.
  const std::optional<HiddenWith>& with() const { return with_; }

 private:
  std::optional<HiddenWith> with_;
  Random* random_ = nullptr;
  std::optional<std::uint16_t> salt_;
  bool for_nobody_ = false;
};

}  // namespace jembatan::decide
