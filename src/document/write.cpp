#include "document/write.h"

#include <fmt/format.h>

#include <algorithm>

namespace jembatan::document {
namespace {

bool is_bare(std::string_view key) {
  static constexpr std::string_view kBare =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
  return !key.empty() && key.find_first_not_of(kBare) == std::string_view::npos;
}

// Conditions and patterns are full of quotes and backslashes: a literal text needs no escapes.
bool reads_best_literally(std::string_view text) {
  return text.find_first_of("\"\\") != std::string_view::npos && text.find('\'') == std::string_view::npos &&
         std::all_of(text.begin(), text.end(), [](char c) {
           const auto octet = static_cast<unsigned char>(c);
           return octet >= 0x20 && octet != 0x7f;
         });
}

std::string in_quotes(std::string_view text) {
  std::string out = "\"";
  for (const char c : text) {
    const auto octet = static_cast<unsigned char>(c);
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (c == '\n') {
      out += "\\n";
    } else if (c == '\t') {
      out += "\\t";
    } else if (octet < 0x20 || octet == 0x7f) {
      out += fmt::format("\\u{:04X}", octet);
    } else {
      out += c;
    }
  }
  return out + '"';
}

std::string key_text(std::string_view key) {
  return is_bare(key) ? std::string(key) : in_quotes(key);
}

bool is_array_of_tables(const Value& value) {
  return value.kind == Kind::array && !value.items.empty() &&
         std::all_of(value.items.begin(), value.items.end(),
                     [](const Value& item) { return item.kind == Kind::table; });
}

std::string array_text(const Value& array) {
  std::string out = "[";
  for (const Value& item : array.items) out += (out.size() > 1 ? ", " : "") + inline_text(item);
  return out + "]";
}

std::string inline_table_text(const Value& table) {
  if (table.entries.empty()) return "{}";
  std::string out = "{ ";
  for (const Entry& entry : table.entries) {
    if (out.size() > 2) out += ", ";
    out += key_text(entry.key) + " = " + inline_text(entry.value);
  }
  return out + " }";
}

std::string real_text(double real) {
  std::string out = fmt::format("{}", real);
  if (out.find_first_of(".en") == std::string::npos) out += ".0";
  return out;
}

void write_section(std::string& out, const std::string& brackets, const std::string& path, const Value& table,
                   const std::string& indent) {
  out += fmt::format("{}{}{}{}\n", indent, brackets, path, brackets == "[" ? "]" : "]]");
  for (const Entry& entry : table.entries) {
    if (!is_array_of_tables(entry.value))
      out += fmt::format("{}{} = {}\n", indent, key_text(entry.key), inline_text(entry.value));
  }
  for (const Entry& entry : table.entries) {
    if (!is_array_of_tables(entry.value)) continue;
    for (const Value& item : entry.value.items) {
      out += '\n';
      write_section(out, "[[", path + "." + key_text(entry.key), item, indent + "  ");
    }
  }
}

}  // namespace

std::string inline_text(const Value& value) {
  switch (value.kind) {
    case Kind::text:
      return reads_best_literally(value.text) ? "'" + value.text + "'" : in_quotes(value.text);
    case Kind::integer:
      return std::to_string(value.integer);
    case Kind::real:
      return real_text(value.real);
    case Kind::boolean:
      return value.boolean ? "true" : "false";
    case Kind::date_or_time:
      return "\"\"";  // no key of a plan takes one: reading has refused it
    case Kind::array:
      return array_text(value);
    case Kind::table:
      return inline_table_text(value);
  }
  return "";
}

std::string section_text(const std::string& heading, const Value& table) {
  const std::size_t open = heading.starts_with("[[") ? 2 : 1;
  std::string out;
  write_section(out, heading.substr(0, open), heading.substr(open, heading.size() - 2 * open), table, "");
  return out;
}

Value text_value(std::string text) {
  Value out;
  out.kind = Kind::text;
  out.text = std::move(text);
  return out;
}

Value table_value(std::vector<Entry> entries) {
  Value out;
  out.entries = std::move(entries);
  return out;
}

void set_entry(Value& table, std::string_view key, Value value) {
  for (Entry& entry : table.entries) {
    if (entry.key != key) continue;
    entry.value = std::move(value);
    return;
  }
  table.entries.push_back({std::string(key), {}, std::move(value)});
}

bool remove_entry(Value& table, std::string_view key) {
  return std::erase_if(table.entries, [key](const Entry& entry) { return entry.key == key; }) > 0;
}

}  // namespace jembatan::document
