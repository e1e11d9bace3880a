#include "identity/password.h"

#include "identity/challenge.h"

#include <crypt.h>

#include <algorithm>
#include <array>
#include <memory>
#include <string>

namespace jembatan::identity {
namespace {

std::string text_with_end(const Secret& secret) {
  return std::string(text_of(secret.reveal()));
}

}  // namespace

StoredPassword StoredPassword::clear(Secret password) {
  StoredPassword out;
  out.form_ = Form::clear;
  out.kept_ = std::move(password);
  return out;
}

Result<StoredPassword> StoredPassword::hash(Secret text) {
  const std::string setting = text_with_end(text);
  const int known = crypt_checksalt(setting.c_str());
  if (!setting.starts_with('$') || known == CRYPT_SALT_INVALID || known == CRYPT_SALT_METHOD_DISABLED) {
    return fail(Errc::malformed,
                "not a password hash that this system knows; allowed: crypt(5) forms like $y$… or $6$…");
  }
  StoredPassword out;
  out.form_ = Form::hash;
  out.kept_ = std::move(text);
  return out;
}

Result<Secret> StoredPassword::make_hash(const Secret& password, Random& random) {
  std::uint8_t octets[16];
  random.fill(octets);
  char setting[CRYPT_GENSALT_OUTPUT_SIZE];
  const char* salt = crypt_gensalt_rn("$y$", 0, reinterpret_cast<const char*>(octets), sizeof(octets),
                                      setting, sizeof(setting));
  auto work = std::make_unique<crypt_data>();
  std::string phrase = text_with_end(password);
  const bool fits = phrase.find('\0') == std::string::npos && phrase.size() < CRYPT_MAX_PASSPHRASE_SIZE;
  const char* made = salt != nullptr && fits ? crypt_r(phrase.c_str(), salt, work.get()) : nullptr;
  const bool hashed = made != nullptr && made[0] == '$';
  Secret out = hashed ? Secret(made) : Secret{};
  wipe({reinterpret_cast<std::uint8_t*>(phrase.data()), phrase.size()});
  wipe({reinterpret_cast<std::uint8_t*>(work.get()), sizeof(crypt_data)});
  if (!hashed)
    return fail(Errc::malformed,
                "the password cannot be hashed; allowed: 1 to 511 octets, none of them zero");
  return out;
}

Result<StoredPassword> StoredPassword::nt(const Secret& hex) {
  auto octets = from_hex(text_of(hex.reveal()));
  if (!octets || octets->size() != std::tuple_size_v<NtHash>)
    return fail(Errc::malformed, "no NT hash; allowed: 32 hexadecimal digits");
  StoredPassword out;
  out.form_ = Form::nt;
  out.kept_ = Secret(text_of(*octets));
  wipe(*octets);
  return out;
}

StoredPassword StoredPassword::elsewhere(Form form) {
  StoredPassword out;
  out.form_ = form;
  return out;
}

bool StoredPassword::matches(OctetView typed) const {
  if (form_ == Form::none || kept_.empty()) return false;
  if (form_ == Form::nt) {
    const auto hash = nt_hash(typed);
    return hash && equal_in_constant_time(*hash, kept_.reveal());
  }
  if (form_ == Form::clear) return equal_in_constant_time(kept_.reveal(), typed);
  // crypt takes text that ends at its first zero octet: "right\0anything" must not pass for "right".
  if (std::find(typed.begin(), typed.end(), 0) != typed.end()) return false;
  auto work = std::make_unique<crypt_data>();
  std::string phrase(text_of(typed));
  const char* made = crypt_r(phrase.c_str(), text_with_end(kept_).c_str(), work.get());
  const bool same =
      made != nullptr && equal_in_constant_time(view_of(std::string_view(made)), kept_.reveal());
  wipe({reinterpret_cast<std::uint8_t*>(phrase.data()), phrase.size()});
  wipe({reinterpret_cast<std::uint8_t*>(work.get()), sizeof(crypt_data)});
  return same;
}

std::span<const std::string_view> methods_of(StoredPassword::Form form) {
  static constexpr std::array<std::string_view, 4> kAll{"pap", "ms-chap", "ms-chap-v2", "chap"};
  switch (form) {
    case StoredPassword::Form::clear:
      return kAll;
    case StoredPassword::Form::nt:
      return std::span(kAll).first(3);
    case StoredPassword::Form::hash:
      return std::span(kAll).first(1);
    case StoredPassword::Form::none:
      break;
  }
  return {};
}

bool can_prove(StoredPassword::Form form, std::string_view method) {
  const auto methods = methods_of(form);
  return std::find(methods.begin(), methods.end(), method) != methods.end();
}

}  // namespace jembatan::identity
