#include "plan/names.h"

#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::plan {

bool is_plain_name(std::string_view name) {
  return !name.empty() && name.size() <= 128 && is_plain_text(view_of(name)) && trim(name) == name;
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
