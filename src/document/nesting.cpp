#include "document/nesting.h"

#include <fmt/format.h>

#include <algorithm>

namespace jembatan::document {
namespace {

// Walks over what is neither a comment nor a string.
class Walk {
 public:
  explicit Walk(std::string_view text) : text_(text) {}

  std::optional<TooDeep> run() {
    while (at_ < text_.size()) {
      const char c = text_[at_];
      if (c == '#') {
        skip_to(text_.find('\n', at_));
      } else if (c == '"' || c == '\'') {
        skip_string(c);
      } else {
        if (auto found = look(c)) return found;
        step();
      }
    }
    return std::nullopt;
  }

 private:
  std::optional<TooDeep> look(char c) {
    if (c == '[' || c == '{') {
      parts_ = 1;
      if (++depth_ > kMostNested)
        return TooDeep{here(), fmt::format("nested more than {} deep", kMostNested)};
    } else if (c == ']' || c == '}') {
      if (depth_ > 0) --depth_;
    } else if (c == '.') {
      if (++parts_ > kMostKeyParts)
        return TooDeep{here(), fmt::format("a key of more than {} parts", kMostKeyParts)};
    } else if (c == '=' || c == ',' || c == '\n') {
      parts_ = 1;
    }
    return std::nullopt;
  }

  void skip_string(char quote) {
    const std::string three(3, quote);
    const bool lines = text_.substr(at_).starts_with(three);
    const std::string_view end = lines ? std::string_view(three) : std::string_view(three).substr(0, 1);
    for (std::size_t i = 0; i < end.size(); ++i) step();
    while (at_ < text_.size() && !text_.substr(at_).starts_with(end)) {
      if (!lines && text_[at_] == '\n') return;  // not closed: the reader says so
      if (quote == '"' && text_[at_] == '\\') step();
      step();
    }
    for (std::size_t i = 0; i < end.size(); ++i) step();
  }

  void step() {
    if (at_ >= text_.size()) return;
    if (text_[at_] == '\n') {
      ++line_;
      line_begin_ = at_ + 1;
    }
    ++at_;
  }
  void skip_to(std::size_t place) {
    while (at_ < std::min(place, text_.size())) step();
  }
  Position here() const { return {line_, static_cast<std::uint32_t>(at_ - line_begin_ + 1)}; }

  std::string_view text_;
  std::size_t at_ = 0;
  std::size_t line_begin_ = 0;
  std::uint32_t line_ = 1;
  std::size_t depth_ = 0;
  std::size_t parts_ = 1;
};

}  // namespace

std::optional<TooDeep> too_deep(std::string_view toml) {
  return Walk(toml).run();
}

}  // namespace jembatan::document
