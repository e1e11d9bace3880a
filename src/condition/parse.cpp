// Reading a condition by its grammar (docs/conditions.md), and checking it against the catalogue.
#include <fmt/format.h>
#include <re2/re2.h>

#include <algorithm>
#include <map>

#include "base/text.h"
#include "condition/condition.h"
#include "condition/values.h"
#include "dictionary/encode.h"
#include "dictionary/value_text.h"

namespace jembatan::condition {
namespace {

constexpr int kMostNested = 50;
constexpr std::size_t kMostTests = 200;

const std::map<std::string_view, Comparison>& signs() {
  static const std::map<std::string_view, Comparison> all{
      {"==", Comparison::equal},   {"!=", Comparison::differs}, {"<", Comparison::less},
      {"<=", Comparison::at_most}, {">", Comparison::more},     {">=", Comparison::at_least}};
  return all;
}

constexpr std::string_view kHop = "hop";
constexpr std::string_view kSessions = "sessions";
constexpr std::string_view kProxyState = "Proxy-State";  // each hop adds one (RFC 2865 §5.33)
constexpr std::string_view kHours = R"("Mon-Fri 07:00-19:00", "Sat,Sun", "22:00-04:00 +08:00")";

}  // namespace

class Parser {
 public:
  Parser(std::string_view source, const dictionary::Catalogue& catalogue, std::vector<Mistake>& mistakes)
      : catalogue_(catalogue), mistakes_(mistakes) {
    out_.source_ = source;
  }

  std::optional<Condition> run() {
    const std::size_t before = mistakes_.size();
    tokens_ = lex(out_.source_, mistakes_);
    if (tokens_.empty()) return std::nullopt;
    if (const auto root = either(0)) {
      out_.root_ = *root;
      if (here().token != Token::end)
        wrong(here(), fmt::format("'{}' where the condition could end", escaped(here().text)), "and, or");
    }
    if (mistakes_.size() > before) return std::nullopt;
    return std::move(out_);
  }

 private:
  using Place = std::optional<std::size_t>;
  using Kind = Condition::Kind;

  const Lexeme& here() const { return tokens_[at_]; }
  bool is_word(std::string_view word) const { return here().token == Token::word && here().text == word; }
  bool take_word(std::string_view word) {
    if (!is_word(word)) return false;
    ++at_;
    return true;
  }
  bool take(Token token) {
    if (here().token != token) return false;
    ++at_;
    return true;
  }

  void wrong(const Lexeme& lexeme, std::string text, std::string allowed = "") {
    mistakes_.push_back({lexeme.at, lexeme.size, std::move(text), std::move(allowed)});
  }
  std::string found() const {
    return here().token == Token::end ? "the condition ends"
                                      : fmt::format("'{}' stands", escaped(here().text));
  }

  std::size_t node(Kind kind, std::size_t left, std::size_t right = 0) {
    out_.nodes_.push_back({kind, left, right});
    return out_.nodes_.size() - 1;
  }

  Place either(int depth) {
    Place left = both(depth);
    while (left && take_word("or")) {
      const Place right = both(depth);
      if (!right) return std::nullopt;
      left = node(Kind::either, *left, *right);
    }
    return left;
  }

  Place both(int depth) {
    Place left = negation(depth);
    while (left && take_word("and")) {
      const Place right = negation(depth);
      if (!right) return std::nullopt;
      left = node(Kind::both, *left, *right);
    }
    return left;
  }

  Place negation(int depth) {
    if (depth > kMostNested) {
      wrong(here(), fmt::format("nested more than {} deep", kMostNested));
      return std::nullopt;
    }
    if (take_word("not")) {
      const Place inner = negation(depth + 1);
      return inner ? Place(node(Kind::negation, *inner)) : std::nullopt;
    }
    if (take(Token::open)) {
      const Place inner = either(depth + 1);
      if (!inner) return std::nullopt;
      if (!take(Token::close)) {
        wrong(here(), found() + " where a ')' is missing", ")");
        return std::nullopt;
      }
      return inner;
    }
    return comparison();
  }

  // One comparison; a mistake in what is compared does not end the reading of the rest.
  Place comparison() {
    if (out_.tests_.size() >= kMostTests) {
      wrong(here(), fmt::format("more than {} comparisons", kMostTests));
      return std::nullopt;
    }
    Test test;
    test.at = here().at;
    if (!read_test(test)) return std::nullopt;
    const Lexeme& last = tokens_[at_ - 1];
    test.size = last.at + last.size - test.at;
    out_.tests_.push_back(std::move(test));
    return node(Kind::test, out_.tests_.size() - 1);
  }

  bool read_test(Test& test) {
    if (take_word("member")) return read_member(test);
    if (is_word("time") || is_word("day")) return read_time(test);
    if (!read_operand(test)) return false;
    return read_comparison(test);
  }

  bool read_member(Test& test) {
    test.fact = Fact::groups;
    test.comparison = Comparison::member;
    if (!take_word("of") || here().token != Token::text) {
      wrong(here(), found() + " behind 'member'", "member of \"GROUP\"");
      return false;
    }
    if (trim(here().text) != here().text || here().text.empty()) {
      wrong(here(), fmt::format("the group '{}' has a space at an end, or no name", escaped(here().text)),
            fmt::format("\"{}\"", escaped(trim(here().text))));
    }
    test.literals.push_back({0, here().text, {}});
    ++at_;
    return true;
  }

  // time within "Mon-Fri 07:00-19:00", day in (Sat, Sun)
  bool read_time(Test& test) {
    const bool day = take_word("day");
    test.fact = day ? Fact::day : Fact::time;
    test.comparison = Comparison::within;
    if (!day) {
      ++at_;
      if (!take_word("within") || here().token != Token::text) {
        wrong(here(), found() + " behind 'time'", fmt::format("time within {}", kHours));
        return false;
      }
      const auto hours = read_hours(here().text);
      if (!hours) wrong(here(), hours.error().text, std::string(kHours));
      test.hours = hours ? *hours : Hours{};
      ++at_;
      return true;
    }
    const bool one = here().token == Token::compare && here().text == "==";
    if (!one && !is_word("in")) {
      wrong(here(), found() + " behind 'day'", "day == Sat, or day in (Sat, Sun)");
      return false;
    }
    ++at_;
    std::vector<Lexeme> names;
    if (!read_list(names, one)) return false;
    test.hours.days = 0;
    for (const Lexeme& name : names) {
      const auto number = day_named(name.text);
      if (!number)
        wrong(name, fmt::format("'{}' is no day", escaped(name.text)), "Mon, Tue, Wed, Thu, Fri, Sat, Sun");
      if (number) test.hours.days |= static_cast<std::uint8_t>(1U << static_cast<unsigned>(*number));
    }
    return true;
  }

  bool read_operand(Test& test) {
    if (take_word("count")) {
      test.quantity = Quantity::count;
      if (!take(Token::open) || !read_attribute(test) || !take(Token::close)) {
        if (mistakes_.empty()) wrong(here(), found() + " in count", "count(ATTRIBUTE)");
        return false;
      }
      return true;
    }
    if (take_word("any"))
      test.quantity = Quantity::any;
    else if (take_word("all"))
      test.quantity = Quantity::all;
    if (here().token != Token::word) {
      wrong(here(), found() + " where a comparison is expected",
            "an attribute's name, " + join(fact_names(), ", ") +
                fmt::format(", sessions, {}, hop, member of, time within, day, not, (", kKeyedFacts));
      return false;
    }
    const Lexeme& name = here();
    if (name.text == kHop) {
      test.fact = Fact::attribute;
      test.quantity = Quantity::count;
      test.attribute = catalogue_.named(kProxyState);
      ++at_;
      return test.attribute != nullptr;
    }
    const auto fact = name.text == kSessions ? std::optional(Fact::sessions) : fact_named(name.text);
    const auto keyed = fact ? std::nullopt : keyed_fact_named(name.text);
    if (!fact && !keyed) return read_attribute(test);
    if (test.quantity != Quantity::first)
      wrong(name, fmt::format("'{}' has one value", name.text), "any and all with attributes");
    if (fact) {
      test.fact = *fact;
    } else {
      test.fact = keyed->fact;
      test.key = keyed->key;
      if (test.key.empty())
        wrong(name, fmt::format("nothing stands behind '{}'", name.text), std::string(kKeyedFacts));
    }
    ++at_;
    return true;
  }

  bool read_attribute(Test& test) {
    const Lexeme& name = here();
    if (name.token != Token::word) return false;
    test.fact = Fact::attribute;
    const auto found_definition = dictionary::find_named(catalogue_, name.text);
    if (!found_definition) {
      std::vector<std::string> known = catalogue_.names();
      for (std::string& fact : fact_names()) known.push_back(std::move(fact));
      known.emplace_back(kSessions);
      const auto near = nearest(name.text, known);
      wrong(name, fmt::format("'{}' is no attribute and no fact", escaped(name.text)),
            near ? fmt::format("an attribute or a fact; nearest: '{}'", *near)
                 : "an attribute or a fact; `jembatan dictionary find` finds names");
      return false;
    }
    test.attribute = *found_definition;
    ++at_;
    if (is_reachable(*test.attribute)) return true;
    wrong(name,
          fmt::format("{} cannot be compared: its value is hidden, or cut into pieces, or it holds others",
                      test.attribute->name),
          "attributes with one value, also vendors', extended ones and those inside others");
    return false;
  }

  // What is compared with is checked even if the comparison does not suit, so that all mistakes are told.
  bool read_comparison(Test& test) {
    if (take_word("present")) {
      test.comparison = Comparison::present;
      if (test.quantity != Quantity::first || is_count(test))
        wrong(tokens_[at_ - 1], "'present' needs no any, all or count");
      return true;
    }
    const Lexeme& sign = here();
    if (sign.token == Token::compare) {
      test.comparison = signs().at(sign.text);
      ++at_;
      return one_literal(test);
    }
    if (take_word("in")) {
      test.comparison = Comparison::in;
      std::vector<Lexeme> values;
      if (!read_list(values, here().token != Token::open)) return false;
      for (const Lexeme& value : values) add_literal(test, value);
      return true;
    }
    static const std::map<std::string_view, Comparison> kTexts{{"under", Comparison::under},
                                                               {"matches", Comparison::matches},
                                                               {"contains", Comparison::contains},
                                                               {"starts", Comparison::starts_with},
                                                               {"ends", Comparison::ends_with}};
    const auto text = sign.token == Token::word ? kTexts.find(sign.text) : kTexts.end();
    if (text == kTexts.end()) {
      wrong(sign, found() + " where a comparison is expected",
            "==, !=, <, <=, >, >=, in, under, matches, starts with, ends with, contains, present");
      return false;
    }
    test.comparison = text->second;
    ++at_;
    const bool two_words =
        test.comparison == Comparison::starts_with || test.comparison == Comparison::ends_with;
    if (two_words && !take_word("with")) {
      wrong(here(), found() + fmt::format(" behind '{}'", text->first), "with");
      return false;
    }
    const bool octets = test.fact != Fact::attribute || shape_of(*test.attribute) == Shape::octets;
    if (!octets || is_count(test))
      wrong(sign, fmt::format("'{}' compares text, and {} is a number or an address", text->first,
                              operand_name(test)));
    if (test.comparison == Comparison::matches) return read_pattern(test);
    return one_literal(test);
  }

  bool read_pattern(Test& test) {
    if (here().token != Token::text) {
      wrong(here(), found() + " behind 'matches'", "a pattern in quotes");
      return false;
    }
    re2::RE2::Options options;
    options.set_log_errors(false);
    options.set_max_mem(1 << 20);
    test.pattern = std::make_shared<const re2::RE2>(here().text, options);
    if (!test.pattern->ok())
      wrong(here(), fmt::format("no pattern: {}", test.pattern->error()), "RE2's syntax");
    ++at_;
    return true;
  }

  bool is_literal() const { return here().token == Token::word || here().token == Token::text; }

  bool one_literal(Test& test) {
    if (!is_literal()) {
      wrong(here(), found() + " where a value is expected");
      return false;
    }
    add_literal(test, here());
    ++at_;
    return true;
  }

  // (A, B, C), or one alone.
  bool read_list(std::vector<Lexeme>& out, bool one) {
    if (!one && !take(Token::open)) {
      wrong(here(), found() + " where a list is expected", "( values )");
      return false;
    }
    do {
      if (!is_literal()) {
        wrong(here(), found() + " where a value is expected");
        return false;
      }
      out.push_back(here());
      ++at_;
    } while (!one && take(Token::comma));
    if (one || take(Token::close)) return true;
    wrong(here(), found() + " in a list", ", or )");
    return false;
  }

  static bool is_count(const Test& test) {
    return test.quantity == Quantity::count || test.fact == Fact::sessions;
  }

  static std::string operand_name(const Test& test) {
    if (is_count(test)) return "a count";
    return test.fact == Fact::attribute ? test.attribute->name : "this";
  }

  void add_literal(Test& test, const Lexeme& value) {
    Literal literal;
    const bool orders = test.comparison == Comparison::less || test.comparison == Comparison::at_most ||
                        test.comparison == Comparison::more || test.comparison == Comparison::at_least;
    if (is_count(test)) {
      const auto number = dictionary::parse_number(value.text, 2048);
      if (!number) wrong(value, number.error().text);
      if (number) literal.number = *number;
      if (number && *number == 0 &&
          (test.comparison == Comparison::at_least || test.comparison == Comparison::less))
        wrong(value, fmt::format("a count is {} 0 {}", test.comparison == Comparison::less ? "<" : ">=",
                                 test.comparison == Comparison::less ? "never" : "always"));
    } else if (test.fact != Fact::attribute) {
      if (orders)
        wrong(value, "text has no order", "==, !=, in, under, matches, starts with, ends with, contains");
      literal.octets = value.text;
    } else {
      attribute_literal(test, value, orders, literal);
    }
    test.literals.push_back(std::move(literal));
  }

  void attribute_literal(const Test& test, const Lexeme& value, bool orders, Literal& out) {
    const dictionary::Definition& attribute = *test.attribute;
    const Shape shape = shape_of(attribute);
    if (orders && shape != Shape::number)
      wrong(value,
            fmt::format("{} has no order: it is {}", attribute.name, dictionary::name_of(attribute.type)),
            "==, !=, in");
    if (shape == Shape::address) {
      const auto prefix = Prefix::parse(value.text);
      const Family family = attribute.type == dictionary::DataType::ipv4addr ? Family::v4 : Family::v6;
      if (!prefix) {
        wrong(value, prefix.error().text);
      } else if (prefix->address.family != family) {
        wrong(value, fmt::format("{} is {}, and this is another family: never the same", attribute.name,
                                 dictionary::name_of(attribute.type)));
      } else {
        out.prefix = *prefix;
      }
      return;
    }
    if (shape == Shape::octets && value.token == Token::text) {
      out.octets = value.text;
      return;
    }
    const auto octets = dictionary::parse_value(attribute, value.text);
    if (!octets) {
      wrong(value, fmt::format("{}: {}", attribute.name, octets.error().text));
      return;
    }
    out.octets = std::string(text_of(*octets));
    if (shape == Shape::number) out.number = number_in(attribute, *octets).value_or(0);
  }

  const dictionary::Catalogue& catalogue_;
  std::vector<Mistake>& mistakes_;
  std::vector<Lexeme> tokens_;
  std::size_t at_ = 0;
  Condition out_;
};

std::optional<Condition> Condition::parse(std::string_view source, const dictionary::Catalogue& catalogue,
                                          std::vector<Mistake>& mistakes) {
  return Parser(source, catalogue, mistakes).run();
}

std::vector<std::string_view> Condition::all_of() const {
  const bool plain = std::all_of(nodes_.begin(), nodes_.end(), [](const Node& node) {
    return node.kind == Kind::test || node.kind == Kind::both;
  });
  std::vector<std::string_view> out;
  if (!plain) return out;
  for (const Test& test : tests_) out.push_back(text_of(test));
  return out;
}

const Test* Condition::key() const {
  return key(root_);
}

const Test* Condition::key(std::size_t node) const {
  const Node& here = nodes_[node];
  if (here.kind == Kind::both) {
    const Test* left = key(here.left);
    return left != nullptr ? left : key(here.right);
  }
  if (here.kind != Kind::test) return nullptr;
  const Test& test = tests_[here.left];
  const bool equal = test.comparison == Comparison::equal || test.comparison == Comparison::in;
  const bool one_value = test.fact == Fact::attribute && test.quantity == Quantity::first &&
                         shape_of(*test.attribute) != Shape::address;
  const bool is_text =
      test.fact == Fact::client || test.fact == Fact::realm || test.fact == Fact::user || is_keyed(test.fact);
  return equal && (one_value || is_text) ? &test : nullptr;
}

bool Condition::uses(Fact fact) const {
  return std::any_of(tests_.begin(), tests_.end(), [fact](const Test& test) { return test.fact == fact; });
}

std::vector<std::string> Condition::groups() const {
  std::vector<std::string> out;
  for (const Test& test : tests_) {
    if (test.fact == Fact::groups) out.push_back(test.literals.front().octets);
  }
  return out;
}

}  // namespace jembatan::condition
