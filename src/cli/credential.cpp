#include "cli/credential.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "dictionary/encode.h"
#include "identity/challenge.h"
#include "wire/hidden.h"

namespace jembatan::cli {
namespace {

constexpr std::string_view kNames[] = {"pap", "chap", "ms-chap", "ms-chap-v2"};
constexpr std::uint8_t kIdentifier = 1;

Octets attribute(std::string_view name, OctetView value) {
  return *dictionary::encode(dictionary::standard(), name, "0x" + to_hex(value));
}

Octets random_octets(Random& random, std::size_t size) {
  Octets out(size);
  random.fill(out);
  return out;
}

Result<Credential> pap(const Secret& password, const wire::Authenticator& request,
                       const wire::SharedSecret& secret) {
  auto hidden = wire::hide_password(password.reveal(), request, secret);
  if (!hidden) return hidden.error();
  Credential out;
  out.attributes.push_back(static_cast<std::uint8_t>(wire::AttributeType::user_password));
  out.attributes.push_back(static_cast<std::uint8_t>(hidden->size() + wire::kAttributeHeader));
  append(out.attributes, *hidden);
  return out;
}

Credential chap(const Secret& password, Random& random) {
  const Octets challenge = random_octets(random, 16);
  Octets value{kIdentifier};
  append(value, identity::chap_response(kIdentifier, password.reveal(), challenge));
  Credential out{attribute("CHAP-Password", value), ""};
  append(out.attributes, attribute("CHAP-Challenge", challenge));
  return out;
}

Result<Credential> ms_chap(const Secret& password, Random& random) {
  const auto hash = identity::nt_hash(password.reveal());
  if (!hash) return hash.error();
  const Octets challenge = random_octets(random, 8);
  std::array<std::uint8_t, 8> asked{};
  std::copy(challenge.begin(), challenge.end(), asked.begin());
  Octets value{kIdentifier, 1};  // flags: the newer hash counts
  value.resize(26);
  append(value, identity::nt_response(asked, *hash));
  Credential out{attribute("MS-CHAP-Challenge", challenge), ""};
  append(out.attributes, attribute("MS-CHAP-Response", value));
  return out;
}

Result<Credential> ms_chap_v2(const std::string& user, const Secret& password, Random& random) {
  const auto hash = identity::nt_hash(password.reveal());
  if (!hash) return hash.error();
  const Octets theirs = random_octets(random, 16);
  const Octets ours = random_octets(random, 16);
  const auto challenge = identity::challenge_hash(ours, theirs, view_of(user));
  const auto response = identity::nt_response(challenge, *hash);
  Octets value{kIdentifier, 0};
  append(value, ours);
  value.resize(26);
  append(value, response);
  Credential out{attribute("MS-CHAP-Challenge", theirs),
                 identity::authenticator_response(*hash, response, challenge)};
  append(out.attributes, attribute("MS-CHAP2-Response", value));
  return out;
}

}  // namespace

Result<Method> method_named(const std::string& name) {
  const auto* found = std::find(std::begin(kNames), std::end(kNames), name);
  if (found != std::end(kNames)) return static_cast<Method>(found - std::begin(kNames));
  return fail(Errc::malformed, fmt::format("'{}'; allowed: {}", escaped(name), fmt::join(kNames, ", ")));
}

Result<Credential> prove(const Claim& claim, const wire::Authenticator& request,
                         const wire::SharedSecret& secret, Random& random) {
  switch (claim.method) {
    case Method::pap:
      return pap(claim.password, request, secret);
    case Method::chap:
      return chap(claim.password, random);
    case Method::ms_chap:
      return ms_chap(claim.password, random);
    case Method::ms_chap_v2:
      break;
  }
  return ms_chap_v2(claim.user, claim.password, random);
}

}  // namespace jembatan::cli
