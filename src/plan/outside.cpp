#include "plan/outside.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace jembatan::plan {

using document::Entry;
using document::Kind;

namespace {

Error malformed(const Entry& entry, std::string_view found) {
  return fail(Errc::malformed, fmt::format("'{}' is {}", entry.key, found));
}

Result<std::string> looked_up(const Entry& source, const Outside& outside) {
  const std::string& where = source.value.text;
  if (source.key == "file") {
    if (outside.file) return outside.file(where);
    return fail(Errc::not_allowed, "files cannot be read here");
  }
  if (source.key == "env") {
    if (outside.variable) return outside.variable(where);
    return fail(Errc::not_allowed, "variables cannot be read here");
  }
  if (outside.kept) return outside.kept(where);
  return "kept elsewhere: " + where;
}

void each_value(Entry& entry, const std::function<void(Entry&)>& visit) {
  if (entry.value.kind != Kind::array) return visit(entry);
  for (document::Value& item : entry.value.items) {
    Entry one{entry.key, item.at, std::move(item)};
    visit(one);
    item = std::move(one.value);
  }
}

}  // namespace

Result<Secret> secret_of(const Entry& entry, const Outside& outside) {
  if (entry.value.kind == Kind::text) {
    if (!entry.value.text.empty()) return Secret(entry.value.text);
    return malformed(entry, "empty");
  }
  if (entry.value.kind != Kind::table || entry.value.entries.size() != 1)
    return malformed(entry, document::name_of(entry.value.kind));
  const Entry& source = entry.value.entries.front();
  static const std::vector<std::string> kSources{"env", "file", "kept"};
  if (std::find(kSources.begin(), kSources.end(), source.key) == kSources.end()) {
    const auto near = nearest(source.key, kSources);
    return malformed(entry, fmt::format("kept in '{}', which is no place for secrets{}", escaped(source.key),
                                        near ? fmt::format("; nearest: '{}'", *near) : ""));
  }
  if (source.value.kind != Kind::text) return malformed(source, document::name_of(source.value.kind));
  const auto found = looked_up(source, outside);
  if (!found) return found.error().at(fmt::format("'{}'", entry.key));
  if (trim(*found).empty())
    return malformed(entry, fmt::format("empty: {} '{}'", source.key, escaped(source.value.text)));
  return Secret(source.key == "kept" ? std::string_view(*found) : trim(*found));
}

bool is_kept(const document::Value& value) {
  return value.kind == Kind::table && value.entries.size() == 1 && value.entries.front().key == "kept";
}

void each_secret(document::Value& table, const std::function<bool(std::string_view)>& hidden,
                 const std::function<void(Entry&)>& visit) {
  for (Entry& entry : table.entries) {
    if (entry.key == "secret" || entry.key == "old_secret") {
      visit(entry);
    } else if (entry.key == "password" && entry.value.kind == Kind::table) {
      for (Entry& form : entry.value.entries) visit(form);
    } else if (entry.key == "server" && entry.value.kind == Kind::array) {
      for (document::Value& server : entry.value.items) each_secret(server, hidden, visit);
    } else if (entry.key == "probe" && entry.value.kind == Kind::table) {
      each_secret(entry.value, hidden, visit);
    } else if (entry.key == "reply" || entry.key == "set" || entry.key == "add") {
      for (Entry& attribute : entry.value.entries) {
        if (hidden(attribute.key)) each_value(attribute, visit);
      }
    }
  }
}

}  // namespace jembatan::plan
