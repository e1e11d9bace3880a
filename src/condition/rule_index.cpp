#include "condition/rule_index.h"

#include <algorithm>
#include <cstring>

#include "condition/values.h"

namespace jembatan::condition {

namespace {

// Numbers are found by their octets.
std::array<char, 8> octets_of_number(std::uint64_t number) {
  std::array<char, 8> out{};
  std::memcpy(out.data(), &number, out.size());
  return out;
}

bool is_number(const dictionary::Definition* attribute) {
  return attribute != nullptr && shape_of(*attribute) == Shape::number;
}

}  // namespace

RuleIndex::Column* RuleIndex::column_for(const Test& key) {
  const auto found = std::find_if(columns_.begin(), columns_.end(), [&](const Column& column) {
    return column.fact == key.fact && column.key == key.key && column.attribute == key.attribute;
  });
  if (found != columns_.end()) return &*found;
  if (columns_.size() == kMostColumns) return nullptr;
  return &columns_.emplace_back(Column{key.fact, key.key, key.attribute, {}});
}

void RuleIndex::add(const Condition* when) {
  const std::uint32_t rule = size_++;
  const Test* key = when == nullptr ? nullptr : when->key();
  Column* column = key == nullptr ? nullptr : column_for(*key);
  if (column == nullptr) {
    others_.push_back(rule);
    return;
  }
  for (const Literal& literal : key->literals) {
    const auto number = octets_of_number(literal.number);
    auto& rules =
        column->rules[is_number(key->attribute) ? std::string(number.data(), number.size()) : literal.octets];
    if (rules.empty() || rules.back() != rule) rules.push_back(rule);  // "in" may name one text twice
  }
}

std::span<const std::uint32_t> RuleIndex::rules_for(const Column& column, const Facts& facts) const {
  const auto with = [&column](std::string_view value) -> std::span<const std::uint32_t> {
    const auto found = column.rules.find(value);
    return found == column.rules.end() ? std::span<const std::uint32_t>{} : found->second;
  };
  if (is_keyed(column.fact)) {
    const auto value = keyed_fact(column.fact, column.key, facts);
    return value ? with(*value) : std::span<const std::uint32_t>{};
  }
  if (column.fact != Fact::attribute) return with(text_fact(column.fact, facts));
  std::span<const std::uint32_t> out;
  if (facts.packet == nullptr) return out;
  each_value(*facts.packet, *column.attribute, *facts.catalogue, [&](OctetView value) {
    if (!is_number(column.attribute)) {
      out = with(jembatan::text_of(value));
    } else if (const auto number = number_in(*column.attribute, value)) {
      const auto octets = octets_of_number(*number);
      out = with({octets.data(), octets.size()});
    }
    return false;  // the first counts
  });
  return out;
}

RuleIndex::Lists RuleIndex::lists_for(const Facts& facts) const {
  Lists out;
  out.all[out.count++] = others_;
  for (const Column& column : columns_) out.all[out.count++] = rules_for(column, facts);
  return out;
}

}  // namespace jembatan::condition
