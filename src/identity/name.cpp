#include "identity/name.h"

#include "base/text.h"

namespace jembatan::identity {

Name split(std::string_view user_name) {
  const std::size_t at = user_name.rfind('@');
  if (at == std::string_view::npos) return {user_name, {}};
  return {user_name.substr(0, at), user_name.substr(at + 1)};
}

std::string comparable(std::string_view name) {
  return lower(name);
}

}  // namespace jembatan::identity
