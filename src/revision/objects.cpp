#include "revision/objects.h"

#include <fmt/format.h>

#include <algorithm>

#include "document/parse.h"
#include "document/write.h"
#include "identity/name.h"

namespace jembatan::revision {
namespace {

using document::Entry;
using document::Value;

std::string heading_of(const Kind& kind) {
  return kind.single ? fmt::format("[{}]", kind.name) : fmt::format("[[{}]]", kind.name);
}

// The keys of a section in the order of the reference; unknown ones stay behind them.
void order_keys(Value& table, std::string_view section) {
  static const auto places = [] {
    std::map<std::pair<std::string_view, std::string_view>, std::size_t> out;
    for (const plan::KeyMeaning& key : plan::key_meanings())
      out.try_emplace({key.section, key.key}, out.size());
    return out;
  }();
  const auto place = [section](const Entry& entry) {
    const auto found = places.find({section, entry.key});
    return found == places.end() ? places.size() : found->second;
  };
  std::stable_sort(table.entries.begin(), table.entries.end(),
                   [&](const Entry& a, const Entry& b) { return place(a) < place(b); });
}

}  // namespace

const std::vector<Kind>& kinds() {
  static const std::vector<Kind> all{
      {kDictionary, "dictionaries", false, false, false},
      {"client", "clients.toml", false, false, false},
      {"user", "users.toml", false, false, true},
      {"group", "groups.toml", false, false, false},
      {"directory", "directories.toml", false, false, false},
      {"factor", "factors.toml", false, false, false},
      {"enrolment", "enrolments.toml", false, false, false},
      {"realm", "realms.toml", false, false, true},
      {"realm_default", "realms.toml", false, true, false},
      {"sign_in", "sign_in.toml", false, true, false},
      {"route", "routes.toml", true, false, false},
      {"access", "access.toml", true, false, false},
      {"reply_set", "access.toml", false, false, false},
      {"edit", "edits.toml", true, false, false},
  };
  return all;
}

const Kind* kind_named(std::string_view name) {
  for (const Kind& kind : kinds()) {
    if (kind.name == name) return &kind;
  }
  return nullptr;
}

Objects::Key Objects::key_of(std::string_view kind, std::string_view name) {
  const Kind* known = kind_named(kind);
  const std::size_t place =
      known == nullptr ? kinds().size() : static_cast<std::size_t>(known - kinds().data());
  return {place, known != nullptr && known->any_case ? identity::comparable(name) : std::string(name)};
}

const Object* Objects::find(std::string_view kind, std::string_view name) const {
  const auto found = by_key_.find(key_of(kind, name));
  return found == by_key_.end() ? nullptr : &found->second;
}

void Objects::put(Object object) {
  const Key key = key_of(object.kind, object.name);
  by_key_.insert_or_assign(key, std::move(object));
}

bool Objects::remove(std::string_view kind, std::string_view name) {
  return by_key_.erase(key_of(kind, name)) > 0;
}

std::vector<const Object*> Objects::list(std::string_view kind) const {
  std::vector<const Object*> out;
  for (const auto& [key, object] : by_key_) {
    if (kind.empty() || object.kind == kind) out.push_back(&object);
  }
  // They come kind by kind: within each, rules by rank.
  for (auto begin = out.begin(); begin != out.end();) {
    const auto end =
        std::find_if(begin, out.end(), [&](const Object* o) { return o->kind != (*begin)->kind; });
    std::stable_sort(begin, end, [](const Object* a, const Object* b) { return a->rank < b->rank; });
    begin = end;
  }
  return out;
}

std::vector<std::string> Objects::names(std::string_view kind) const {
  std::vector<std::string> out;
  for (const auto& [key, object] : by_key_) {
    if (object.kind == kind) out.push_back(object.name);
  }
  return out;
}

Object object_of(std::string_view kind, Value table) {
  order_keys(table, kind);
  for (Entry& entry : table.entries) {
    if (entry.key == "labels") {
      std::sort(entry.value.entries.begin(), entry.value.entries.end(),
                [](const Entry& a, const Entry& b) { return a.key < b.key; });
    }
    for (Value& inner : entry.value.items) order_keys(inner, fmt::format("{}.{}", kind, entry.key));
  }
  Object out;
  out.kind = kind;
  const Kind& known = *kind_named(kind);
  const Value* name = table.find("name");
  if (!known.single && name != nullptr) out.name = name->text;
  out.text = document::section_text(heading_of(known), table);
  return out;
}

bool is_dictionary_name(std::string_view name) {
  static constexpr std::string_view kAllowed =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._-";
  return !name.empty() && name.size() <= 100 && name[0] != '.' &&
         name.find_first_not_of(kAllowed) == std::string_view::npos;
}

Value table_of(const Object& object) {
  document::Problems ignored;
  const auto file = document::parse(object.name, object.text, ignored);
  if (!file || file->root.entries.empty()) return {};
  const Value& section = file->root.entries.front().value;
  return section.items.empty() ? section : section.items.front();
}

std::vector<plan::SourceFile> sources_of(const Objects& objects,
                                         const std::map<const Object*, std::string>& places) {
  std::vector<plan::SourceFile> out;
  for (const Object* object : objects.list()) {
    const auto place = places.find(object);
    std::string name =
        object->name.empty() ? object->kind : fmt::format("{} '{}'", object->kind, object->name);
    if (object->kind == kDictionary) name = fmt::format("{}{}.toml", plan::kDictionaryFolder, object->name);
    if (place != places.end()) name = place->second;
    out.push_back({std::move(name), object->text});
  }
  return out;
}

std::vector<plan::SourceFile> files_of(const Objects& objects) {
  std::vector<plan::SourceFile> out;
  for (const Object* object : objects.list()) {
    const Kind& kind = *kind_named(object->kind);
    if (kind.name == kDictionary) {
      out.push_back({fmt::format("{}/{}.toml", kind.file, object->name), object->text});
    } else if (out.empty() || out.back().name != kind.file) {
      out.push_back({std::string(kind.file), object->text});
    } else {
      out.back().text += "\n" + object->text;
    }
  }
  return out;
}

}  // namespace jembatan::revision
