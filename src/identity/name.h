#pragma once
#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace jembatan::identity {

/// Ways of writing a user and a realm into one name.
enum class NameForm : std::uint8_t {
  user_at_realm,         ///< RFC 7542 §2.2
  realm_backslash_user,  ///< as the peers of RFC 2759 §4 write it
  realm_slash_user,
  realm_bang_user,
  realm_bang_user_at_via,  ///< RFC 7542 §3.3: the way leads over another realm first
};
/// "user@realm", "realm\user", …: as plans write them, in the order of NameForm.
std::span<const std::string_view> name_forms();
std::string_view name_of(NameForm form);

/// A network access identifier in its parts; views into the text that was split.
struct Name {
  std::string_view user;
  std::string_view realm;  ///< empty if there is none
  std::string_view via;    ///< the realm that the way leads over; mostly empty
};

/// The parts of a name in one form; nothing if it is not written like that: what stands between is missing,
/// or a part is empty. "user@realm" is split at the last '@', the others at their first sign.
std::optional<Name> split(std::string_view user_name, NameForm form);

/// A name as RFC 8265 §3.3 prepares it for comparison (UsernameCaseMapped: width mapping, lower case,
/// normalization form C), also with spaces between its parts.
///   returns  nothing for what that profile does not allow: symbols, control characters, no UTF-8, …
std::optional<std::string> case_mapped(std::string_view name);

/// The form in which realms and users are compared: case_mapped(), or the octets with ASCII letters in lower
/// case if they are not allowed there.
std::string comparable(std::string_view name);

/// The same for a look into a table: what is in that form already, as most names are, is not copied.
class Comparable {
 public:
  ///   name  outlives this
  explicit Comparable(std::string_view name);
  Comparable(const Comparable&) = delete;
  Comparable& operator=(const Comparable&) = delete;
  std::string_view text() const { return text_; }

 private:
  std::string made_;
  std::string_view text_;
};

}  // namespace jembatan::identity
