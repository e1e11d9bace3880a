#pragma once
// What proves a password in a request that this side makes.
#include "base/random.h"
#include "base/secret.h"
#include "dictionary/catalogue.h"
#include "wire/builder.h"
#include "wire/shared_secret.h"

namespace jembatan::cli {

enum class Method : std::uint8_t { pap, chap, ms_chap, ms_chap_v2 };

/// "pap", "chap", "ms-chap", "ms-chap-v2", as plans write them.
Result<Method> method_named(const std::string& name);

struct Credential {
  Octets attributes;          ///< whole ones, for the request
  std::string proof_of_both;  ///< "S=…": what MS-CHAP2-Success of a server that knows the password says
};

/// Who says what to be.
struct Claim {
  Method method{};
  const std::string& user;
  const Secret& password;
};
/// RFC 2865 §5.2, §5.3 with §5.40; RFC 2548 §2.1.2 to §2.3.2.
///   errors  Errc::too_long, Errc::malformed: the password
Result<Credential> prove(const Claim& claim, const wire::Authenticator& request,
                         const wire::SharedSecret& secret, Random& random);

}  // namespace jembatan::cli
