#pragma once
#include <string_view>

#include <string>
#include <vector>

#include "base/clock.h"
#include "base/octets.h"
#include "base/result.h"

namespace jembatan::host {

/// When the first certificate of a chain expires (RFC 5280 §4.1.2.5).
///   pem     text of a file
///   errors  Errc::malformed: no certificate in it
Result<WallTime> expiry_of(std::string_view pem);

/// What people ask about a certificate.
struct Certificate {
  std::vector<std::string> names;  ///< of the server: DNS names and addresses (RFC 5280 §4.2.1.6)
  std::string issuer;
  WallTime expires;
};
///   der     as it travels in TLS
///   errors  Errc::malformed
Result<Certificate> certificate_in(OctetView der);
/// "certificate of ldap-1.reef.example, signed by CN=Reef Line, until 2027-01-31"
std::string text_of(const Certificate& certificate);

/// "it expired on 2026-11-01", "it expires on 2026-12-01, in 6 days"; empty while there are more than 30.
std::string expiry_text(WallTime expiry, WallTime now);

}  // namespace jembatan::host
