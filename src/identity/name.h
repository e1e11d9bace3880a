#pragma once
#include <string>
#include <string_view>

namespace jembatan::identity {

/// A network access identifier in its two parts (RFC 7542 §2.2); views into the text that was split.
struct Name {
  std::string_view user;
  std::string_view realm;  ///< empty if there is none
};

/// Splits at the last '@': "sari@reef.example" is "sari" of "reef.example". Without '@', or with nothing
/// behind it, there is no realm.
Name split(std::string_view user_name);

/// The form in which realms and users are compared: ASCII letters in lower case.
std::string comparable(std::string_view name);

}  // namespace jembatan::identity
