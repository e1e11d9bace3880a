#include "document/mask.h"

#include <algorithm>

#include "base/text.h"

namespace jembatan::document {
namespace {

constexpr std::string_view kMasked = "********";
constexpr std::string_view kKeyCharacters =
    "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_-";

std::string_view key_before(std::string_view line, std::size_t equals) {
  std::string_view before = trim(line.substr(0, equals));
  if (before.size() > 1 && (before.back() == '"' || before.back() == '\'')) {
    const std::size_t open = before.rfind(before.back(), before.size() - 2);
    return open == std::string_view::npos ? before : before.substr(open + 1, before.size() - open - 2);
  }
  const std::size_t other = before.find_last_not_of(kKeyCharacters);
  before.remove_prefix(other == std::string_view::npos ? 0 : other + 1);
  return before;
}

// Every '=' that stands outside of quotes.
template <class Visit>
void each_equals(std::string_view line, Visit visit) {
  char quote = 0;
  for (std::size_t i = 0; i < line.size(); ++i) {
    if (quote == '"' && line[i] == '\\') {
      ++i;
    } else if (quote != 0) {
      if (line[i] == quote) quote = 0;
    } else if (line[i] == '"' || line[i] == '\'') {
      quote = line[i];
    } else if (line[i] == '=') {
      visit(i);
    }
  }
}

}  // namespace

bool may_be_secret(std::string_view key) {
  static const std::vector<std::string> kWords{"secret", "password", "clear", "hash"};
  const std::string plain = lower(key);
  return plain == "nt" || plain.find("pass") != std::string::npos ||
         plain.find("secr") != std::string::npos || nearest(plain, kWords).has_value();
}

std::string shown_line(std::string_view line, const std::vector<std::string>& hidden) {
  bool any = false;
  std::size_t cut = std::string_view::npos;
  each_equals(line, [&](std::size_t equals) {
    any = true;
    const std::string_view key = key_before(line, equals);
    if (cut == std::string_view::npos &&
        (may_be_secret(key) || std::find(hidden.begin(), hidden.end(), key) != hidden.end()))
      cut = equals;
  });
  if (cut != std::string_view::npos) return std::string(line.substr(0, cut)) + "= " + std::string(kMasked);
  const std::string_view text = trim(line);
  return std::string(any || text.empty() || text[0] == '[' || text[0] == '#' ? line : kMasked);
}

}  // namespace jembatan::document
