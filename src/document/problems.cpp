#include "document/problems.h"

#include <fmt/format.h>

#include <algorithm>
#include <tuple>

namespace jembatan::document {

std::size_t Problems::errors() const {
  return static_cast<std::size_t>(
      std::count_if(list_.begin(), list_.end(), [](const Problem& p) { return p.level == Level::error; }));
}

std::string Problems::count_text() const {
  return fmt::format("{} {}, {} advice", errors(), errors() == 1 ? "error" : "errors", advice());
}

std::string Problems::text() const {
  std::vector<const Problem*> sorted;
  for (const Problem& problem : list_) sorted.push_back(&problem);
  std::stable_sort(sorted.begin(), sorted.end(), [](const Problem* a, const Problem* b) {
    return std::tie(a->file, a->at.line, a->at.column) < std::tie(b->file, b->at.line, b->at.column);
  });
  std::string out;
  for (const Problem* problem : sorted) {
    out += fmt::format("{}:{}:{}: {}: {}\n", problem->file, problem->at.line, problem->at.column,
                       problem->level == Level::error ? "error" : "advice", problem->text);
    if (!problem->rule.empty()) out.insert(out.size() - 1, fmt::format(" ({})", problem->rule));
    if (!problem->line.empty()) {
      out += fmt::format("{:5} | {}\n", problem->at.line, problem->line);
      out += fmt::format("      | {}{}\n", std::string(problem->at.column - 1, ' '),
                         std::string(problem->width, '^'));
    }
    if (!problem->allowed.empty()) out += fmt::format("   allowed: {}\n", problem->allowed);
    if (!problem->mend.empty()) out += fmt::format("   to mend it: {}\n", problem->mend);
  }
  return out;
}

}  // namespace jembatan::document
