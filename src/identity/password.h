#pragma once
#include <span>

#include "base/random.h"
#include "base/result.h"
#include "base/secret.h"

namespace jembatan::identity {

/// How a user's password is kept, and whether one that was typed is the same.
class StoredPassword {
 public:
  enum class Form : std::uint8_t { none, clear, hash, nt };

  StoredPassword() = default;
  static StoredPassword clear(Secret password);

  /// A hash as crypt(5) writes it: "$y$…" (yescrypt), "$6$…" (sha512crypt) and others that the system knows.
  ///   errors  Errc::malformed: no such hash
  static Result<StoredPassword> hash(Secret text);

  /// An NT hash (RFC 2759 §8.3) as 32 hexadecimal digits.
  ///   errors  Errc::malformed
  static Result<StoredPassword> nt(const Secret& hex);

  /// One whose form is known, and nothing else: it matches nothing.
  static StoredPassword elsewhere(Form form);

  /// A new hash of a password: yescrypt, with the system's own cost.
  ///   errors  Errc::malformed: a zero octet in it, or over 511 octets (crypt(3) takes no more)
  static Result<Secret> make_hash(const Secret& password, Random& random);

  Form form() const { return form_; }
  /// True if comparing takes so long (milliseconds) that it must not happen on a network thread.
  bool slow() const { return form_ == Form::hash; }
  /// What is kept, for methods that compute with it: the password, the hash's text, or 16 octets.
  OctetView kept() const { return kept_.reveal(); }
  /// Compares in constant time. With Form::none nothing matches.
  bool matches(OctetView typed) const;

 private:
  Form form_ = Form::none;
  Secret kept_;
};

/// The methods that a password kept like that can prove: "pap", "chap", "ms-chap", "ms-chap-v2".
std::span<const std::string_view> methods_of(StoredPassword::Form form);
bool can_prove(StoredPassword::Form form, std::string_view method);

}  // namespace jembatan::identity
