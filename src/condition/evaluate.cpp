// Evaluating a condition: nothing is allocated, and every loop is bounded by the packet or the condition.
#include <re2/re2.h>

#include <algorithm>

#include "condition/condition.h"
#include "condition/values.h"

namespace jembatan::condition {
namespace {

bool ordered(Comparison comparison, std::uint64_t left, std::uint64_t right) {
  switch (comparison) {
    case Comparison::less:
      return left < right;
    case Comparison::at_most:
      return left <= right;
    case Comparison::more:
      return left > right;
    case Comparison::at_least:
      return left >= right;
    case Comparison::differs:
      return left != right;
    default:
      return left == right;
  }
}

bool under(std::string_view value, std::string_view tree) {
  return value == tree ||
         (value.size() > tree.size() && value.starts_with(tree) && value[tree.size()] == '/');
}

bool text_holds(const Test& test, std::string_view value) {
  const auto is_one = [&] {
    return std::any_of(test.literals.begin(), test.literals.end(),
                       [&](const Literal& literal) { return literal.octets == value; });
  };
  const std::string_view wanted = test.literals.empty() ? std::string_view{} : test.literals.front().octets;
  switch (test.comparison) {
    case Comparison::differs:
      return value != wanted;
    case Comparison::in:
      return is_one();
    case Comparison::under:
      return under(value, wanted);
    case Comparison::matches:
      return re2::RE2::PartialMatch(re2::StringPiece(value.data(), value.size()), *test.pattern);
    case Comparison::starts_with:
      return value.starts_with(wanted);
    case Comparison::ends_with:
      return value.ends_with(wanted);
    case Comparison::contains:
      return value.find(wanted) != std::string_view::npos;
    default:
      return value == wanted;
  }
}

bool number_holds(const Test& test, std::uint64_t value) {
  if (test.comparison == Comparison::in) {
    return std::any_of(test.literals.begin(), test.literals.end(),
                       [value](const Literal& literal) { return literal.number == value; });
  }
  return ordered(test.comparison, value, test.literals.front().number);
}

bool address_holds(const Test& test, OctetView value) {
  const auto address = address_in(value);
  if (!address) return false;
  const bool inside = std::any_of(test.literals.begin(), test.literals.end(),
                                  [&](const Literal& literal) { return literal.prefix.contains(*address); });
  return inside == (test.comparison != Comparison::differs);
}

bool value_holds(const Test& test, OctetView value) {
  switch (shape_of(*test.attribute)) {
    case Shape::number: {
      const auto number = number_in(*test.attribute, value);
      return number && number_holds(test, *number);
    }
    case Shape::address:
      return address_holds(test, value);
    case Shape::octets:
      return text_holds(test, text_of(value));
  }
  return false;
}

bool attribute_holds(const Test& test, const Facts& facts) {
  if (facts.packet == nullptr) return false;
  std::uint64_t count = 0;
  bool result = false;
  each_value(*facts.packet, *test.attribute, *facts.catalogue, [&](OctetView value) {
    ++count;
    if (test.comparison == Comparison::present || test.quantity == Quantity::count) return true;
    result = value_holds(test, value);
    if (test.quantity == Quantity::any) return !result;
    return test.quantity == Quantity::all && result;
  });
  if (test.quantity == Quantity::count) return number_holds(test, count);
  if (test.comparison == Comparison::present) return count > 0;
  return result;
}

bool keyed_holds(const Test& test, const Facts& facts) {
  const auto value = keyed_fact(test.fact, test.key, facts);
  return value && (test.comparison == Comparison::present || text_holds(test, *value));
}

bool is_member(const Test& test, const Facts& facts) {
  return facts.groups != nullptr && std::find(facts.groups->begin(), facts.groups->end(),
                                              test.literals.front().octets) != facts.groups->end();
}

bool test_holds(const Test& test, const Facts& facts) {
  switch (test.fact) {
    case Fact::attribute:
      return attribute_holds(test, facts);
    case Fact::label:
    case Fact::directory:
      return keyed_holds(test, facts);
    case Fact::groups:
      return is_member(test, facts);
    case Fact::sessions:
      return number_holds(test, facts.sessions);
    case Fact::time:
    case Fact::day:
      return within(test.hours, facts.now);
    default:
      break;
  }
  const std::string_view value = text_fact(test.fact, facts);
  return test.comparison == Comparison::present ? !value.empty() : text_holds(test, value);
}

}  // namespace

void capture(const re2::RE2& pattern, std::string_view value, Captures& out) {
  const auto& names = pattern.NamedCapturingGroups();
  if (names.empty()) return;
  std::vector<re2::StringPiece> groups(static_cast<std::size_t>(pattern.NumberOfCapturingGroups()) + 1);
  if (!pattern.Match({value.data(), value.size()}, 0, value.size(), re2::RE2::UNANCHORED, groups.data(),
                     static_cast<int>(groups.size())))
    return;
  for (const auto& [name, place] : names) {
    const re2::StringPiece& group = groups[static_cast<std::size_t>(place)];
    out[name] = std::string(group.data() == nullptr ? "" : group.data(), group.size());
  }
}

void Condition::capture(const Facts& facts, Captures& out) const {
  for (const Test& test : tests_) {
    if (test.pattern == nullptr) continue;
    if (test.fact == Fact::attribute) {
      each_value(*facts.packet, *test.attribute, *facts.catalogue, [&](OctetView value) {
        condition::capture(*test.pattern, jembatan::text_of(value), out);
        return test.quantity != Quantity::first;
      });
    } else if (is_keyed(test.fact)) {
      if (const auto value = keyed_fact(test.fact, test.key, facts))
        condition::capture(*test.pattern, *value, out);
    } else {
      condition::capture(*test.pattern, text_fact(test.fact, facts), out);
    }
  }
}

bool Condition::holds(const Facts& facts, std::size_t* decided_by) const {
  return holds(root_, facts, decided_by);
}

bool Condition::holds(std::size_t node, const Facts& facts, std::size_t* decided_by) const {
  const Node& here = nodes_[node];
  switch (here.kind) {
    case Kind::test:
      if (decided_by != nullptr) *decided_by = here.left;
      return test_holds(tests_[here.left], facts);
    case Kind::both:
      return holds(here.left, facts, decided_by) && holds(here.right, facts, decided_by);
    case Kind::either:
      return holds(here.left, facts, decided_by) || holds(here.right, facts, decided_by);
    case Kind::negation:
      return !holds(here.left, facts, decided_by);
  }
  return false;
}

}  // namespace jembatan::condition
