#include "identity/password.h"

#include <crypt.h>

#include <algorithm>
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

bool StoredPassword::matches(OctetView typed) const {
  if (form_ == Form::none) return false;
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

}  // namespace jembatan::identity
