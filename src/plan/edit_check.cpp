#include "plan/edit_check.h"

#include <fmt/format.h>

#include <algorithm>

namespace jembatan::plan {

bool changes_nothing(const Edit& edit) {
  return edit.copies.empty() && edit.renames.empty() && edit.removes.empty() && edit.sets.empty() &&
         edit.adds.empty();
}

std::vector<std::string> leaks_of(const Edit& edit) {
  std::vector<std::string> out;
  const auto hidden = [](const dictionary::Definition* attribute) {
    return attribute != nullptr && attribute->hiding != dictionary::Hiding::none;
  };
  const auto secret = std::find_if(edit.rewrites.begin(), edit.rewrites.end(),
                                   [&](const Edit::Rewrite& rewrite) { return hidden(rewrite.attribute); });
  if (secret == edit.rewrites.end()) return out;
  for (const Assignments* assignments : {&edit.sets, &edit.adds}) {
    for (const Assignment& assignment : *assignments) {
      if (!assignment.text || !assignment.text->uses_captures() || hidden(assignment.attribute)) continue;
      out.push_back(fmt::format("edit '{}' would show a part of {} in {}", edit.name, secret->attribute->name,
                                assignment.name));
    }
  }
  return out;
}

}  // namespace jembatan::plan
