#pragma once
#include <span>
#include <string>

#include "base/text_hash.h"

namespace jembatan::plan {

/// Finds the entry of a realm: the exact name first, then the longest pattern "*.NAME" that it ends in.
/// Labels mncNNN and mccNNN of an entry stand for any three digits (3GPP TS 23.003 §19.2); an entry with the
/// digits themselves comes before. A lookup takes as many steps as the realm has labels, whatever the number
/// of entries.
class RealmTable {
 public:
  static constexpr std::size_t kNone = ~std::size_t{0};

  /// Enters "reef.example" or "*.islands.example"; letter case does not matter. Gives kNone, or the entry
  /// that has this name already (which stays).
  std::size_t insert(std::string_view name, std::size_t entry);
  std::size_t find(std::string_view realm) const;

 private:
  std::size_t find_comparable(std::string_view wanted) const;

  ByText<std::size_t> entries_;
  bool has_derived_ = false;
};

/// True for a realm name or pattern that the table takes: no white space or '@', '*' only as the whole first
/// label.
bool is_realm_pattern(std::string_view name);

/// Of lists of realms: whoever has none is meant as well.
inline constexpr std::string_view kAllRealms = "*";
/// Whether a list of realms, patterns and kAllRealms holds a realm; empty: that of names without one.
bool holds_realm(std::span<const std::string> list, std::string_view realm);

}  // namespace jembatan::plan
