#include "revision/archive.h"

#include <fmt/format.h>

#include <array>

#include "base/text.h"

namespace jembatan::revision {
namespace {

constexpr std::array<std::string_view, 3> kRoles{"viewer", "operator", "administrator"};

}  // namespace

std::string_view name_of(Role role) {
  return kRoles[static_cast<std::size_t>(role)];
}

std::optional<Role> role_named(std::string_view name) {
  for (std::size_t i = 0; i < kRoles.size(); ++i) {
    if (kRoles[i] == name) return static_cast<Role>(i);
  }
  return std::nullopt;
}

Counts count(const std::vector<ObjectChange>& changes) {
  Counts out;
  for (const ObjectChange& change : changes) {
    out.added += change.what == What::added ? 1 : 0;
    out.changed += change.what == What::changed ? 1 : 0;
    out.removed += change.what == What::removed ? 1 : 0;
    out.moved += change.what == What::moved ? 1 : 0;
  }
  return out;
}

std::string counts_text(const Counts& counts) {
  std::vector<std::string> parts;
  const auto part = [&parts](std::size_t number, std::string_view what) {
    if (number > 0) parts.push_back(fmt::format("{} {}", number, what));
  };
  part(counts.added, "added");
  part(counts.changed, "changed");
  part(counts.removed, "removed");
  part(counts.moved, "moved");
  return parts.empty() ? "nothing" : join(parts, ", ");
}

}  // namespace jembatan::revision
