#include "cli/assignment.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include <algorithm>

#include "base/text.h"
#include "bodies/value.h"
#include "document/parse.h"

namespace jembatan::cli {

using nlohmann::json;

namespace {

bool always_text(std::string_view key) {
  static constexpr std::string_view kTexts[] = {"name", "address", "note", "when", "handle"};
  const std::string_view last = key.substr(key.rfind('.') + 1);
  return key.starts_with("labels.") ||
         std::find(std::begin(kTexts), std::end(kTexts), last) != std::end(kTexts);
}

bool is_secret(std::string_view key) {
  const std::string_view last = key.substr(key.rfind('.') + 1);
  return last == "secret" || last == "old_secret" || key == "password.clear" || key == "password.hash";
}

json value_in(const std::string& text) {
  document::Problems problems;
  const auto file = document::parse("value", "x = " + text, problems);
  if (!file || file->root.entries.size() != 1) return text;
  const document::Value& value = file->root.entries.front().value;
  return value.kind == document::Kind::date_or_time ? json(text) : bodies::json_of(value);
}

}  // namespace

Status read_assignment(const std::string& text, json& fields) {
  const std::size_t equals = text.find('=');
  if (equals == std::string::npos || equals == 0)
    return fail(Errc::malformed, fmt::format("'{}' is no KEY=VALUE", escaped(text)));
  const std::string key = text.substr(0, equals);
  const std::string value = text.substr(equals + 1);
  const bool changes_list = key.ends_with('+') || key.ends_with('-');
  const std::string_view field = std::string_view(key).substr(0, key.size() - (changes_list ? 1 : 0));
  json& out = fields[key];
  if (value.empty()) return {};
  if (value[0] == '@') {
    auto content = document::read_file(value.substr(1));
    if (!content) return content.error();
    out = trim(*content);
  } else if (is_secret(field)) {
    if (value != "generate") {
      return fail(
          Errc::malformed,
          fmt::format("'{0}=…' can be seen by everybody on this machine; allowed: {0}=@FILE, or {0}=generate",
                      field));
    }
    out = json{{"generate", true}};
  } else {
    out = always_text(field) && value[0] != '"' ? json(value) : value_in(value);
  }
  return {};
}

}  // namespace jembatan::cli
