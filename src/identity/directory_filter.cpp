#include "identity/directory_filter.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace jembatan::identity {
namespace {

constexpr int kDeepest = 32;

// RFC 4515 §3: ( and, or, not, or a comparison ).
class FilterReader {
 public:
  FilterReader(std::string_view text, const std::vector<std::string>& places)
      : text_(text), places_(places) {}

  std::string mistake() {
    if (text_.empty() || text_.front() != '(') return "a filter begins with '('";
    if (!filter(0)) return mistake_;
    return at_ == text_.size() ? "" : fmt::format("'{}' stands behind its end", escaped(text_.substr(at_)));
  }

 private:
  bool wrong(std::string what) {
    mistake_ = std::move(what);
    return false;
  }
  bool is_at(char sign) const { return at_ < text_.size() && text_[at_] == sign; }

  bool filter(int depth) {
    if (depth > kDeepest) return wrong("it is too deep");
    if (!is_at('(')) return wrong("'(' is missing");
    ++at_;
    if (is_at('&') || is_at('|')) {
      ++at_;
      if (!is_at('(')) return wrong("nothing stands behind '&' or '|'");
      while (is_at('('))
        if (!filter(depth + 1)) return false;
    } else if (is_at('!')) {
      ++at_;
      if (!filter(depth + 1)) return false;
    } else if (!comparison()) {
      return false;
    }
    if (!is_at(')')) return wrong("')' is missing");
    ++at_;
    return true;
  }

  bool comparison() {
    const std::size_t end = std::min(text_.find_first_of("()", at_), text_.size());
    const std::string_view part = text_.substr(at_, end - at_);
    const std::size_t sign = part.find('=');
    if (sign == std::string_view::npos || sign == 0)
      return wrong(fmt::format("'{}' is no comparison like uid={{user}}", escaped(part)));
    at_ = end;
    return values(part.substr(sign + 1));
  }

  bool values(std::string_view text) {
    for (std::size_t open = text.find('{'); open != std::string_view::npos; open = text.find('{', open + 1)) {
      const std::size_t close = text.find('}', open);
      if (close == std::string_view::npos) return wrong("'}' is missing");
      const std::string name(text.substr(open + 1, close - open - 1));
      if (std::find(places_.begin(), places_.end(), name) == places_.end())
        return wrong(fmt::format("nothing is known of '{{{}}}'", escaped(name)));
    }
    return true;
  }

  std::string_view text_;
  const std::vector<std::string>& places_;
  std::size_t at_ = 0;
  std::string mistake_;
};

}  // namespace

std::string as_filter_value(std::string_view value) {
  std::string out;
  for (const char c : value) {
    if (c == '*' || c == '(' || c == ')' || c == '\\' || c == '\0') {
      out += fmt::format("\\{:02x}", static_cast<unsigned char>(c));
    } else {
      out += c;
    }
  }
  return out;
}

std::string mistake_in_filter(std::string_view filter, const std::vector<std::string>& places) {
  return FilterReader(filter, places).mistake();
}

std::string filled_filter(std::string_view filter, const std::map<std::string, std::string>& values) {
  std::string out;
  while (!filter.empty()) {
    const std::size_t open = std::min(filter.find('{'), filter.size());
    out += filter.substr(0, open);
    filter.remove_prefix(open);
    if (filter.empty()) break;
    const std::size_t close = filter.find('}');
    const auto value = values.find(std::string(filter.substr(1, close - 1)));
    if (value != values.end()) out += as_filter_value(value->second);
    filter.remove_prefix(close + 1);
  }
  return out;
}

}  // namespace jembatan::identity
