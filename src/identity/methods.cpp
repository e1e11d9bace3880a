#include "identity/methods.h"

#include <fmt/format.h>

#include <algorithm>

#include "identity/challenge.h"
#include "wire/hidden.h"

namespace jembatan::identity {
namespace {

using wire::AttributeType;
using wire::PacketView;

constexpr std::uint8_t kError = 2;
constexpr std::uint8_t kEncryptionPolicy = 7;
constexpr std::uint8_t kEncryptionTypes = 8;
constexpr std::uint8_t kSendKey = 16;
constexpr std::uint8_t kReceiveKey = 17;
constexpr std::uint8_t kSuccess2 = 26;
constexpr int kDisabled = 647;         // ERROR_ACCT_DISABLED (RFC 2759 §6)
constexpr int kPasswordExpired = 648;  // ERROR_PASSWD_EXPIRED
constexpr int kNotFromThere = 649;     // ERROR_NO_DIALIN_PERMISSION
constexpr int kWrong = 691;            // ERROR_AUTHENTICATION_FAILURE
constexpr int kChangeRefused = 709;    // ERROR_CHANGING_PASSWORD
constexpr std::size_t kResponse = 50;  // RFC 2548 §2.1.3, §2.3.2: ident, flags, challenges, response

void add_microsoft(Octets& out, std::uint8_t type, OctetView value) {
  out.push_back(static_cast<std::uint8_t>(AttributeType::vendor_specific));
  out.push_back(static_cast<std::uint8_t>(value.size() + 8));
  out.resize(out.size() + 4);
  store32(out.data() + out.size() - 4, kMicrosoft);
  out.push_back(type);
  out.push_back(static_cast<std::uint8_t>(value.size() + 2));
  append(out, value);
}

// MS-CHAP-Error (RFC 2548 §2.1.5): the identifier, then the text that the peer reads.
Octets error_of(std::uint8_t identifier, int code, std::string_view text, Random& random) {
  std::array<std::uint8_t, 16> challenge{};
  random.fill(challenge);
  Octets value{identifier};
  append(value, view_of(fmt::format("E={} R=0 C={} V=3 M={}", code, to_hex(challenge), text)));
  Octets out;
  add_microsoft(out, kError, value);
  return out;
}

// Nothing if only a hash is kept that this method cannot be computed from.
std::optional<NtHash> nt_hash_of(const StoredPassword& password) {
  if (password.form() == StoredPassword::Form::nt) {
    NtHash out{};
    std::copy_n(password.kept().begin(), out.size(), out.begin());
    return out;
  }
  if (password.form() != StoredPassword::Form::clear) return std::nullopt;
  const auto hash = nt_hash(password.kept());
  if (!hash) return std::nullopt;
  return *hash;
}

Challenged prove_chap(const PacketView& packet, const StoredPassword& password, OctetView given) {
  Challenged out;
  if (password.form() != StoredPassword::Form::clear) {
    out.because = "CHAP needs the password itself, and only a hash of it is kept";
    return out;
  }
  const auto challenge = packet.find(AttributeType::chap_challenge);
  const wire::Authenticator authenticator = packet.authenticator();
  if (given.size() == 17) {
    const auto wanted =
        chap_response(given[0], password.kept(), challenge ? challenge->value : OctetView(authenticator));
    out.right = equal_in_constant_time(wanted, given.subspan(1));
  }
  out.because = given.size() == 17 ? "wrong password (CHAP)" : "CHAP-Password has not 17 octets";
  return out;
}

// What both versions need before they differ.
struct Microsoft {
  OctetView challenge;
  OctetView response;
  std::string_view user;  ///< without its realm
};

Challenged refused(const Microsoft& given, std::string_view because, Random& random) {
  Challenged out;
  out.because = because;
  out.reject = error_of(given.response.empty() ? std::uint8_t{0} : given.response[0], kWrong,
                        "Sign-in failed", random);
  return out;
}

Challenged version_1(const Microsoft& given, const NtHash& hash, Random& random) {
  if (given.challenge.size() != 8 || given.response.size() != kResponse)
    return refused(given, "MS-CHAP-Response or MS-CHAP-Challenge has a wrong length", random);
  if ((given.response[1] & 1U) == 0)
    return refused(given, "MS-CHAP with the older hash alone is not accepted", random);
  std::array<std::uint8_t, 8> challenge{};
  std::copy_n(given.challenge.begin(), challenge.size(), challenge.begin());
  const NtResponse wanted = nt_response(challenge, hash);
  if (!equal_in_constant_time(wanted, given.response.subspan(26, 24)))
    return refused(given, "wrong password (MS-CHAP)", random);
  Challenged out;
  out.right = true;
  return out;
}

// What a reply is made with.
struct Replying {
  const PacketView& packet;
  const wire::SharedSecret& secret;
  Random& random;
};

// What both sides know when version 2 has succeeded.
struct Agreed {
  std::uint8_t identifier = 0;
  const NtHash& hash;
  const NtResponse& response;
  std::array<std::uint8_t, 8> challenge{};
};

Octets success_of(const Replying& with, const Agreed& agreed) {
  Octets out;
  Octets text{agreed.identifier};
  append(text, view_of(authenticator_response(agreed.hash, agreed.response, agreed.challenge)));
  add_microsoft(out, kSuccess2, text);
  const std::array<std::uint8_t, 4> allowed{0, 0, 0, 1};
  const std::array<std::uint8_t, 4> types{0, 0, 0, 6};  // 40 and 128 bits (RFC 2548 §2.4.5)
  add_microsoft(out, kEncryptionPolicy, allowed);
  add_microsoft(out, kEncryptionTypes, types);
  const MppeKeys keys = mppe_keys(agreed.hash, agreed.response);
  auto salt = static_cast<std::uint16_t>(with.random.below(0x7FFE));
  const auto add_key = [&](std::uint8_t type, OctetView key) {
    const auto hidden = wire::hide_salted(key, salt++, with.packet.authenticator(), with.secret);
    if (hidden) add_microsoft(out, type, *hidden);
  };
  add_key(kSendKey, keys.send);
  add_key(kReceiveKey, keys.receive);
  return out;
}

// Devices differ in which part of the name they hash: all of it is tried first, then what stands before the
// realm.
Challenged version_2(const Replying& with, const Microsoft& given, const NtHash& hash) {
  if (given.challenge.size() != 16 || given.response.size() != kResponse)
    return refused(given, "MS-CHAP2-Response or MS-CHAP-Challenge has a wrong length", with.random);
  const std::string_view name = wire::text_in(with.packet.find(AttributeType::user_name));
  for (const std::string_view hashed : {name, given.user}) {
    const auto challenge = challenge_hash(given.response.subspan(2, 16), given.challenge, view_of(hashed));
    const NtResponse wanted = nt_response(challenge, hash);
    if (!equal_in_constant_time(wanted, given.response.subspan(26, 24))) continue;
    Challenged out;
    out.right = true;
    out.accept = success_of(with, {given.response[0], hash, wanted, challenge});
    return out;
  }
  return refused(given, "wrong password (MS-CHAP version 2)", with.random);
}

}  // namespace

std::optional<Challenged> prove_challenge(const PacketView& packet, const Claimed& claimed,
                                          const wire::SharedSecret& secret, Random& random) {
  if (const auto given = packet.find(AttributeType::chap_password)) {
    if (claimed.password != nullptr) return prove_chap(packet, *claimed.password, given->value);
    Challenged out;
    out.because = kNoUser;
    return out;
  }
  for (const MicrosoftType change :
       {MicrosoftType::change_1, MicrosoftType::change_2, MicrosoftType::change_version_2}) {
    const auto asked = find_microsoft(packet, change);
    if (!asked) continue;
    Challenged out;
    out.because = "passwords are not changed here";
    const std::uint8_t identifier = asked->size() > 1 ? (*asked)[1] : std::uint8_t{0};
    out.reject = error_of(identifier, kChangeRefused, "Passwords are not changed here", random);
    return out;
  }
  const auto second = find_microsoft(packet, MicrosoftType::response_2);
  const auto first = find_microsoft(packet, MicrosoftType::response_1);
  if (!first && !second) return std::nullopt;
  const auto challenge = find_microsoft(packet, MicrosoftType::challenge);
  const Microsoft given{challenge.value_or(OctetView{}), second ? *second : *first, claimed.name};
  if (claimed.password == nullptr) return refused(given, kNoUser, random);
  const auto hash = nt_hash_of(*claimed.password);
  if (!hash)
    return refused(given, "MS-CHAP needs the password or its NT hash, and another hash is kept", random);
  return second ? version_2({packet, secret, random}, given, *hash) : version_1(given, *hash, random);
}

Octets challenge_refusal(const PacketView& packet, Barred what, Random& random) {
  for (const MicrosoftType type : {MicrosoftType::response_2, MicrosoftType::response_1}) {
    const auto given = find_microsoft(packet, type);
    if (!given || given->empty()) continue;
    const int error = what == Barred::from_there ? kNotFromThere
                      : what == Barred::password ? kPasswordExpired
                                                 : kDisabled;
    return error_of((*given)[0], error, "Sign-in is not allowed", random);
  }
  return {};
}

}  // namespace jembatan::identity
