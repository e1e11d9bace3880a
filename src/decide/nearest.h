#pragma once
// The nearest name, where a request has none that the plan knows.
#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::decide {

/// The journal and the log look at every request: they do not search among very many names.
inline constexpr std::size_t kMostNamesForAll = 1000;

/// "nearest: 'reef.example'"; empty if none is near, or there are more than `most`.
template <class Named>
std::string nearest_text(const std::vector<Named>& all, std::string_view wanted,
                         std::size_t most = kMostNamesForAll) {
  if (all.size() > most) return "";
  Nearest near(wanted);
  for (const Named& named : all) near.consider(named.name);
  return near.best() ? fmt::format("nearest: '{}'", *near.best()) : "";
}

}  // namespace jembatan::decide
