#pragma once
// From values back to TOML 1.0: one way to write each, so that equal values are equal text.
#include <string>

#include "document/value.h"

namespace jembatan::document {

/// A value on one line: 12, "text", ["a", "b"], { place = "reef" }.
std::string inline_text(const Value& value);

/// A table under its heading, a key a line; arrays of tables become tables of their own below it.
///   heading  "[[client]]" or "[realm_default]"; the headings of inner tables are made from it
std::string section_text(const std::string& heading, const Value& table);

/// Makes values, for changes and tests.
Value text_value(std::string text);
Value table_value(std::vector<Entry> entries = {});

/// Replaces the entry with that key, or adds it at the end.
void set_entry(Value& table, std::string_view key, Value value);
/// True if there was one.
bool remove_entry(Value& table, std::string_view key);

}  // namespace jembatan::document
