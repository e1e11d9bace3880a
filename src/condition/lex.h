#pragma once
// A condition's text as tokens, each with its column.
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"

namespace jembatan::condition {

enum class Token : std::uint8_t { word, text, compare, open, close, comma, end };

struct Lexeme {
  Token token = Token::end;
  std::string text;      ///< of a quoted text what is inside, quotes and backslashes resolved
  std::size_t at = 0;    ///< offset of its first octet
  std::size_t size = 0;  ///< octets of the source
};

/// A mistake in a condition, at an offset of its text.
struct Mistake {
  std::size_t at = 0;
  std::size_t size = 1;
  std::string text;
  std::string allowed;
};

inline constexpr std::size_t kLongest = 4096;  ///< octets of one condition

/// The tokens, with Token::end behind the last; or what is wrong.
std::vector<Lexeme> lex(std::string_view source, std::vector<Mistake>& mistakes);

}  // namespace jembatan::condition
