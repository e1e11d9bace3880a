#pragma once
// A TOML document as a tree of values that remember where they stood.
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace jembatan::document {

struct Position {
  std::uint32_t line = 1;    ///< from 1
  std::uint32_t column = 1;  ///< from 1, in characters
  bool operator==(const Position&) const = default;
};

enum class Kind : std::uint8_t { text, integer, real, boolean, date_or_time, array, table };

/// "text", "a whole number", … for messages.
std::string_view name_of(Kind kind);

struct Entry;

struct Value {
  Kind kind = Kind::table;
  Position at;
  std::string text;            ///< Kind::text
  std::int64_t integer = 0;    ///< Kind::integer
  double real = 0;             ///< Kind::real
  bool boolean = false;        ///< Kind::boolean
  std::vector<Value> items;    ///< Kind::array
  std::vector<Entry> entries;  ///< Kind::table, in the order of the file

  const Value* find(std::string_view key) const;
};

struct Entry {
  std::string key;
  Position at;  ///< of the key
  Value value;
};

/// One file that was read: its name as people know it, its lines (for messages) and its content.
struct File {
  std::string name;
  std::vector<std::string> lines;
  Value root;
};

}  // namespace jembatan::document
