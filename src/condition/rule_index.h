#pragma once
// Which of many ordered rules can match a request: those that demand another client, realm, label or value of
// an attribute are not looked at.
#include <array>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "base/text_hash.h"
#include "condition/condition.h"

namespace jembatan::condition {

/// Ordered rules, found by a value that their conditions demand (Condition::key). Immutable once filled;
/// looking allocates nothing.
class RuleIndex {
 public:
  /// The next rule of the list; null: it always matches.
  void add(const Condition* when);

  /// Calls `visit` with the places of the rules that can match, in their order, until it returns true.
  ///   returns  whether it did
  template <class Visit>
  bool first(const Facts& facts, Visit visit) const {
    Lists lists = lists_for(facts);
    while (true) {
      std::span<const std::uint32_t>* next = nullptr;
      for (std::size_t i = 0; i < lists.count; ++i) {
        auto& list = lists.all[i];
        if (!list.empty() && (next == nullptr || list.front() < next->front())) next = &list;
      }
      if (next == nullptr) return false;
      const std::size_t rule = next->front();
      *next = next->subspan(1);
      if (visit(rule)) return true;
    }
  }

 private:
  using Places = ByText<std::vector<std::uint32_t>>;
  /// Rules that demand a value of one fact.
  struct Column {
    Fact fact{};
    std::string key;
    const dictionary::Definition* attribute = nullptr;
    Places rules;
  };
  static constexpr std::size_t kMostColumns = 12;
  struct Lists {
    std::array<std::span<const std::uint32_t>, kMostColumns + 1> all;
    std::size_t count = 0;
  };
  Column* column_for(const Test& key);
  std::span<const std::uint32_t> rules_for(const Column& column, const Facts& facts) const;
  Lists lists_for(const Facts& facts) const;

  std::vector<std::uint32_t> others_;  // rules that can always match
  std::vector<Column> columns_;
  std::uint32_t size_ = 0;
};

}  // namespace jembatan::condition
