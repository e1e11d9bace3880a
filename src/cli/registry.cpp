#include "cli/registry.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace jembatan::cli {
namespace {

constexpr std::size_t kColumns = 4;

// The rows of a CSV text (RFC 4180): quotes, doubled quotes, line breaks inside quotes.
std::vector<std::vector<std::string>> csv_rows(std::string_view text) {
  std::vector<std::vector<std::string>> rows(1, std::vector<std::string>(1));
  bool quoted = false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    std::string& cell = rows.back().back();
    if (quoted && c == '"' && i + 1 < text.size() && text[i + 1] == '"') {
      cell += c;
      ++i;
    } else if (c == '"') {
      quoted = !quoted;
    } else if (quoted) {
      cell += c == '\n' || c == '\r' ? ' ' : c;
    } else if (c == ',') {
      rows.back().emplace_back();
    } else if (c == '\n') {
      rows.emplace_back(1);
    } else if (c != '\r') {
      cell += c;
    }
  }
  if (rows.back().size() == 1 && rows.back()[0].empty()) rows.pop_back();
  return rows;
}

// A name that dictionaries take: what is no letter, digit or '.' becomes '-'.
std::string as_name(std::string_view text) {
  std::string out;
  for (const char c : trim(text)) {
    const bool good = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                      c == '-' || c == '.' || c == '_';
    out += good ? c : '-';
  }
  return out;
}

bool has(const dictionary::Catalogue& known, const RegistryRow& row) {
  return known.at(row.path) != nullptr;
}

}  // namespace

RegistryRows read_registry(std::string_view csv) {
  RegistryRows out;
  const auto rows = csv_rows(csv);
  if (rows.empty() || rows[0].size() < kColumns || lower(rows[0][0]) != "value" ||
      lower(rows[0][2]) != "data type") {
    out.problems.emplace_back(
        "row 1: not the registry's heading; allowed: Value,Description,Data Type,Reference");
    return out;
  }
  for (std::size_t i = 1; i < rows.size(); ++i) {
    const auto& row = rows[i];
    if (row.size() < kColumns) {
      out.problems.push_back(
          fmt::format("row {}: {} columns, allowed {} or more", i + 1, row.size(), kColumns));
      continue;
    }
    const auto path = dictionary::parse_path(trim(row[0]));
    const auto type = dictionary::data_type_named(lower(trim(row[2])));
    if (!path && row[0].find('-') == std::string::npos) {
      out.problems.push_back(
          fmt::format("row {}: value '{}' is no number or range of numbers", i + 1, escaped(row[0])));
    } else if (!path || !type || trim(row[1]).empty()) {
      if (path && !trim(row[2]).empty() && !type) {
        const auto near = nearest(row[2], dictionary::data_type_names());
        out.problems.push_back(fmt::format("row {}: data type '{}' is not one of RFC 8044{}", i + 1,
                                           escaped(row[2]),
                                           near ? fmt::format("; nearest: '{}'", *near) : ""));
      } else {
        ++out.passed_over;
      }
    } else {
      out.attributes.push_back({*path, as_name(row[1]), *type, std::string(trim(row[3]))});
    }
  }
  return out;
}

std::size_t known_of(const RegistryRows& rows, const dictionary::Catalogue& known) {
  return static_cast<std::size_t>(std::count_if(rows.attributes.begin(), rows.attributes.end(),
                                                [&](const auto& row) { return has(known, row); }));
}

std::string registry_toml(const RegistryRows& rows, const dictionary::Catalogue& known) {
  std::string out =
      "# From the IANA registry of attribute types.\nsource = \"IANA registry\"\nattribute = [\n";
  for (const RegistryRow& row : rows.attributes) {
    if (has(known, row)) continue;
    out += fmt::format("  {{ number = \"{}\", name = \"{}\", type = \"{}\", source = {} }},\n",
                       dictionary::dotted(row.path), row.name, name_of(row.type), json_quoted(row.reference));
  }
  return out + "]\n";
}

}  // namespace jembatan::cli
