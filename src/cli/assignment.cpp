#include "cli/assignment.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include <algorithm>

#include "base/text.h"
#include "bodies/value.h"
#include "dictionary/encode.h"
#include "document/mask.h"
#include "document/parse.h"
#include "host/system.h"

namespace jembatan::cli {

using nlohmann::json;

namespace {

// Keys whose value is text even where it looks like a number, a date or a list.
bool always_text(std::string_view key) {
  static constexpr std::string_view kTexts[] = {"name",   "address", "note",   "when",
                                                "handle", "message", "unknown"};
  const std::string_view last = key.substr(key.rfind('.') + 1);
  return key.starts_with("labels.") ||
         std::find(std::begin(kTexts), std::end(kTexts), last) != std::end(kTexts);
}

// Where a plan wants a moment, people write it in any of their forms.
bool is_moment(std::string_view key) {
  return key == "valid_from" || key == "valid_until" || key == "old_secret_until";
}

// Hidden attributes of the standards by their definition, those of vendors by what they sound like.
bool is_hidden(std::string_view key) {
  const std::size_t dot = key.find('.');
  const std::string_view table = key.substr(0, dot);
  if (dot == std::string_view::npos || (table != "reply" && table != "set" && table != "add")) return false;
  const std::string_view attribute = key.substr(dot + 1);
  const auto* known = dictionary::definition_of(*dictionary::standard_catalogue(), attribute);
  return known != nullptr ? known->hiding != dictionary::Hiding::none : document::may_be_secret(attribute);
}

bool is_secret(std::string_view key) {
  const std::string_view last = key.substr(key.rfind('.') + 1);
  return is_hidden(key) || last == "secret" || last == "old_secret" || key == "password.clear" ||
         key == "password.hash";
}

json value_in(const std::string& text) {
  document::Problems problems;
  const auto file = document::parse("value", "x = " + text, problems);
  if (!file || file->root.entries.size() != 1) return text;
  const document::Value& value = file->root.entries.front().value;
  return value.kind == document::Kind::date_or_time ? json(text) : bodies::json_of(value);
}

Error seen_by_everybody(std::string_view key) {
  return fail(
      Errc::malformed,
      fmt::format("'{0}=…' can be seen by everybody on this machine; allowed: {0}=@FILE, or {0}=generate",
                  key));
}

// The secret that a table or a list of them holds in the open: "probe.secret"; empty: none.
std::string secret_inside(const std::string& key, const json& value) {
  std::string out;
  if (value.is_array()) {
    for (const json& item : value)
      if (out.empty()) out = secret_inside(key, item);
  } else if (value.is_object()) {
    for (const auto& [name, inner] : value.items()) {
      const std::string whole = key + "." + name;
      if (out.empty()) out = is_secret(whole) && inner.is_string() ? whole : secret_inside(whole, inner);
    }
  }
  return out;
}

}  // namespace

Status read_assignment(const std::string& text, json& fields) {
  const std::size_t equals = text.find('=');
  if (equals == std::string::npos || equals == 0)
    return fail(Errc::malformed,
                fmt::format("'{}' is no KEY=VALUE, like waits=20s, labels.place=reef or groups+=crew",
                            escaped(text)));
  const std::string key = text.substr(0, equals);
  const std::string value = text.substr(equals + 1);
  const bool changes_list = key.ends_with('+') || key.ends_with('-');
  const std::string_view field = std::string_view(key).substr(0, key.size() - (changes_list ? 1 : 0));
  json& out = fields[key];
  if (value.empty() || value == "null") return {};
  if (value[0] == '@') {
    auto content = document::read_file(value.substr(1));
    if (!content) return content.error();
    out = trim(*content);
  } else if (is_secret(field)) {
    if (value != "generate") {
      return seen_by_everybody(field);
    }
    out = json{{"generate", true}};
  } else if (is_moment(field)) {
    const auto time = parse_moment(value, host::SystemClock().now().wall, Count::ahead);
    if (!time) return time.error().at(key);
    out = text_of(*time);
  } else {
    out = always_text(field) && value[0] != '"' ? json(value) : value_in(value);
    if (const std::string secret = secret_inside(std::string(field), out); !secret.empty())
      return seen_by_everybody(secret);
  }
  return {};
}

}  // namespace jembatan::cli
