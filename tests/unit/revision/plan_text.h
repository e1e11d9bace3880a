#pragma once
// Objects from text, for tests of what is made of them.
#include <gtest/gtest.h>

#include "document/parse.h"
#include "revision/difference.h"

namespace jembatan::revision {

/// The objects of a plan's text, as they are stored; secrets stay as they are written.
inline Objects objects_in(std::string_view text) {
  document::Problems problems;
  const auto file = document::parse("plan.toml", text, problems);
  EXPECT_TRUE(file) << problems.text();
  Objects out;
  std::int64_t rank = 0;
  for (const document::Entry& section : file->root.entries) {
    if (section.value.kind == document::Kind::table) out.put(object_of(section.key, section.value));
    for (const document::Value& item : section.value.items) {
      Object object = object_of(section.key, item);
      if (kind_named(section.key)->ordered) object.rank = ++rank;
      out.put(std::move(object));
    }
  }
  return out;
}

/// "changed client 'a' note: "x" -> "y"; …": one line a change.
inline std::string changes_text(const std::vector<ObjectChange>& changes) {
  std::string out;
  for (const ObjectChange& change : changes) {
    if (change.what == What::renumbered) continue;
    out += std::string(name_of(change.what)) + " " + change.kind + " " + change.name;
    if (!change.place.empty()) out += " " + change.place;
    for (const FieldChange& field : change.fields)
      out += "; " + field.field + ": " + field.before + " -> " + field.after;
    out += "\n";
  }
  return out;
}

}  // namespace jembatan::revision
