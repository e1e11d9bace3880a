#include "plan/names.h"

#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::plan {

bool is_plain_name(std::string_view name) {
  return !name.empty() && name.size() <= 128 && is_plain_text(view_of(name)) && trim(name) == name;
}

bool is_host_name(std::string_view text) {
  static constexpr std::string_view kAllowed =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-.";
  const std::string_view last = text.substr(text.rfind('.') + 1);
  const bool letter = last.find_first_not_of("0123456789") != std::string_view::npos;
  return letter && text.size() <= 253 && text.front() != '-' && text.front() != '.' && text.back() != '.' &&
         text.find("..") == std::string_view::npos &&
         text.find_first_not_of(kAllowed) == std::string_view::npos;
}

std::string read_name(document::Reading& r, const document::Entry& e) {
  const auto text = r.text(e);
  if (!text) return "";
  if (is_plain_name(*text)) return *text;
  r.wrong(e, fmt::format("'{}' is '{}'", e.key, escaped(*text)),
          "1 to 128 octets without control characters, no space at either end");
  return "";
}

}  // namespace jembatan::plan
