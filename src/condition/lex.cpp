#include "condition/lex.h"

#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::condition {
namespace {

// Names of attributes, numbers, addresses, prefixes, durations.
bool in_word(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' || c == '_' ||
         c == '.' || c == ':' || c == '/' || c == '+';
}

class Lexer {
 public:
  Lexer(std::string_view source, std::vector<Mistake>& mistakes) : source_(source), mistakes_(mistakes) {}

  std::vector<Lexeme> run() {
    while (true) {
      while (at_ < source_.size() && (source_[at_] == ' ' || source_[at_] == '\t' || source_[at_] == '\n'))
        ++at_;
      if (at_ >= source_.size()) break;
      if (!next()) return {};
    }
    out_.push_back({Token::end, "", source_.size(), 1});
    return std::move(out_);
  }

 private:
  bool next() {
    const char c = source_[at_];
    if (c == '(') return add(Token::open, 1);
    if (c == ')') return add(Token::close, 1);
    if (c == ',') return add(Token::comma, 1);
    if (c == '"') return quoted();
    for (const std::string_view operation : {"==", "!=", "<=", ">=", "<", ">"}) {
      if (source_.substr(at_).starts_with(operation)) return add(Token::compare, operation.size());
    }
    std::size_t end = at_;
    while (end < source_.size() && in_word(source_[end])) ++end;
    if (end > at_) return add(Token::word, end - at_);
    const std::string_view rest = source_.substr(at_);
    const std::string found = c == '=' ? "=" : escaped(rest.substr(0, 1));
    mistakes_.push_back({at_, 1, fmt::format("'{}' means nothing here", found),
                         c == '=' ? "== to compare" : "names, values, comparisons, ( ) ,"});
    return false;
  }

  bool add(Token token, std::size_t size) {
    out_.push_back({token, std::string(source_.substr(at_, size)), at_, size});
    at_ += size;
    return true;
  }

  bool quoted() {
    const std::size_t begin = at_++;
    std::string text;
    while (at_ < source_.size() && source_[at_] != '"') {
      // Only quotes and backslashes are escaped: patterns keep their own.
      const bool escape = source_[at_] == '\\' && at_ + 1 < source_.size() && source_[at_ + 1] == '"';
      if (escape) ++at_;
      text += source_[at_++];
    }
    if (at_ >= source_.size()) {
      mistakes_.push_back({begin, 1, "a quote that does not end", ""});
      return false;
    }
    ++at_;
    out_.push_back({Token::text, std::move(text), begin, at_ - begin});
    return true;
  }

  std::string_view source_;
  std::vector<Mistake>& mistakes_;
  std::size_t at_ = 0;
  std::vector<Lexeme> out_;
};

}  // namespace

std::vector<Lexeme> lex(std::string_view source, std::vector<Mistake>& mistakes) {
  if (source.size() > kLongest) {
    mistakes.push_back({0, 1, fmt::format("the condition has {} octets", source.size()),
                        fmt::format("at most {}", kLongest)});
    return {};
  }
  return Lexer(source, mistakes).run();
}

}  // namespace jembatan::condition
