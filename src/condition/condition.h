#pragma once
// A condition, checked and compiled once; evaluated over each request without allocating.
#include <memory>
#include <optional>

#include "base/ip.h"
#include "condition/facts.h"
#include "condition/hours.h"
#include "condition/lex.h"

namespace re2 {
class RE2;
}

namespace jembatan::condition {

enum class Fact : std::uint8_t {
  attribute,
  user,
  realm,
  client,
  listener,
  method,
  code,
  route,
  group,
  server,
  label,
  directory,
  groups,
  sessions,
  time,
  day,
};

enum class Comparison : std::uint8_t {
  equal,
  differs,
  less,
  at_most,
  more,
  at_least,
  in,
  under,
  matches,
  starts_with,
  ends_with,
  contains,
  present,
  member,
  within,
};

/// Which values of an attribute that stands several times.
enum class Quantity : std::uint8_t { first, any, all, count };

/// One value to compare with: which member counts, the kind of the operand tells.
struct Literal {
  std::uint64_t number = 0;
  std::string octets;
  Prefix prefix;
};

/// One comparison.
struct Test {
  Fact fact{};
  Quantity quantity = Quantity::first;
  Comparison comparison{};
  std::string key;  ///< Fact::label and Fact::directory: which of them
  const dictionary::Definition* attribute =
      nullptr;  ///< in the catalogue that the condition was checked with
  std::vector<Literal> literals;
  Hours hours;
  std::shared_ptr<const re2::RE2> pattern;
  std::size_t at = 0;  ///< where it stands in the condition's text
  std::size_t size = 0;
};

class Condition {
 public:
  /// Reads a condition and checks it against a catalogue, which must outlive it.
  ///   mistakes  everything that is wrong, with offsets into the text
  static std::optional<Condition> parse(std::string_view source, const dictionary::Catalogue& catalogue,
                                        std::vector<Mistake>& mistakes);

  /// True if it holds. An attribute that is not there makes its comparison false.
  ///   decided_by  if given: the place of the last test that was made, which decided
  bool holds(const Facts& facts, std::size_t* decided_by = nullptr) const;

  const std::string& source() const { return source_; }
  const std::vector<Test>& tests() const { return tests_; }
  /// The test as it is written.
  std::string_view text_of(const Test& test) const {
    return std::string_view(source_).substr(test.at, test.size);
  }
  /// The test at a place, with what the request has there: "user == "sari" (the user is 'budi')".
  std::string text_of(std::size_t test, const Facts& facts) const;
  /// The comparisons of which all must hold, as they are written; nothing if it is more than comparisons with
  /// "and" between them.
  std::vector<std::string_view> all_of() const;
  /// A comparison without which it cannot hold: a client, realm, user, label or first value of an attribute
  /// that is, or is one of, texts or numbers. Null if there is none.
  const Test* key() const;
  /// Every group that it asks about.
  std::vector<std::string> groups() const;
  /// True if one of its comparisons looks at this.
  bool uses(Fact fact) const;
  /// What the named groups of its patterns match, of those that do.
  void capture(const Facts& facts, Captures& out) const;

 private:
  friend class Parser;
  enum class Kind : std::uint8_t { test, both, either, negation };
  struct Node {
    Kind kind{};
    std::size_t left = 0;  // of a test: its place
    std::size_t right = 0;
  };
  const Test* key(std::size_t node) const;
  bool holds(std::size_t node, const Facts& facts, std::size_t* decided_by) const;

  std::string source_;
  std::vector<Test> tests_;
  std::vector<Node> nodes_;
  std::size_t root_ = 0;
};

/// What the request has where the test looks: "NAS-Port-Type is Ethernet", "User-Name is not there".
std::string actual_text(const Test& test, const Facts& facts);

}  // namespace jembatan::condition
