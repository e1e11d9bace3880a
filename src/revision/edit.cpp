#include "revision/edit.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "document/write.h"

namespace jembatan::revision {
namespace {

using document::Value;

// The part of a path before its first '.', and what stands behind. Names of servers may hold dots: they are
// matched as a whole.
std::pair<std::string, std::string> head_of(const std::string& path) {
  const std::size_t dot = path.find('.');
  return dot == std::string::npos ? std::pair{path, std::string{}}
                                  : std::pair{path.substr(0, dot), path.substr(dot + 1)};
}

template <class AnyValue>
AnyValue* item_named(AnyValue& array, const std::string& path, std::string& rest) {
  for (AnyValue& item : array.items) {
    const Value* name = item.find("name");
    if (name == nullptr || !path.starts_with(name->text)) continue;
    const std::string behind = path.substr(name->text.size());
    if (!behind.empty() && behind[0] != '.') continue;
    rest = behind.empty() ? "" : behind.substr(1);
    return &item;
  }
  return nullptr;
}

Status set_field(Value& table, const std::string& path, const std::optional<Value>& value);

// "server.reef-1.weight": the server is made if it is not there, and taken away by an empty "server.reef-1".
Status set_in_array(Value& array, const std::string& path, const std::optional<Value>& value) {
  std::string rest;
  Value* item = item_named(array, path, rest);
  if (item != nullptr && rest.empty() && !value) {
    array.items.erase(array.items.begin() + (item - array.items.data()));
    return {};
  }
  if (item == nullptr) {
    const auto [name, behind] = head_of(path);
    if (!value || behind.empty())
      return fail(Errc::not_found, fmt::format("there is no '{}'", escaped(name)));
    array.items.push_back(document::table_value({{"name", {}, document::text_value(name)}}));
    item = &array.items.back();
    rest = behind;
  }
  if (rest.empty()) return fail(Errc::malformed, "a key of it must follow, like '.address'");
  return set_field(*item, rest, value);
}

std::vector<Value> items_of(const Value& value) {
  return value.kind == document::Kind::array ? value.items : std::vector<Value>{value};
}

// "groups+" adds what is not there yet, "groups-" takes away what is.
Status change_list(Value& table, const std::string& key, const std::optional<Value>& value) {
  const std::string name = key.substr(0, key.size() - 1);
  const Value* there = table.find(name);
  if (there != nullptr && there->kind != document::Kind::array && there->kind != document::Kind::text)
    return fail(Errc::malformed, fmt::format("'{}' is {}, no list", name, document::name_of(there->kind)));
  std::vector<Value> items = there == nullptr ? std::vector<Value>{} : items_of(*there);
  for (const Value& item : value ? items_of(*value) : std::vector<Value>{}) {
    const std::string text = document::inline_text(item);
    const auto found = std::find_if(items.begin(), items.end(),
                                    [&](const Value& known) { return document::inline_text(known) == text; });
    if (key.ends_with('-') && found != items.end()) items.erase(found);
    if (key.ends_with('+') && found == items.end()) items.push_back(item);
  }
  if (items.empty()) {
    document::remove_entry(table, name);
    return {};
  }
  Value list;
  list.kind = document::Kind::array;
  list.items = std::move(items);
  document::set_entry(table, name, std::move(list));
  return {};
}

Status set_field(Value& table, const std::string& path, const std::optional<Value>& value) {
  const auto [head, rest] = head_of(path);
  if (rest.empty() && (head.ends_with('+') || head.ends_with('-'))) return change_list(table, head, value);
  if (rest.empty()) {
    if (value) {
      document::set_entry(table, head, *value);
    } else {
      document::remove_entry(table, head);
    }
    return {};
  }
  if (table.find(head) == nullptr) {
    if (!value) return {};
    Value inner = document::table_value();
    if (head == "server") inner.kind = document::Kind::array;
    document::set_entry(table, head, inner);
  }
  for (document::Entry& entry : table.entries) {
    if (entry.key != head) continue;
    if (entry.value.kind == document::Kind::array) return set_in_array(entry.value, rest, value);
    if (entry.value.kind != document::Kind::table || plan::is_kept(entry.value))
      return fail(Errc::malformed, fmt::format("'{}' is {}, nothing stands below it", head,
                                               document::name_of(entry.value.kind)));
    if (head == "password" && value) entry.value.entries.clear();  // one form at a time
    return set_field(entry.value, rest, value);
  }
  return {};
}

std::string called(const Edit& edit) {
  return edit.name.empty() ? edit.kind : fmt::format("{} '{}'", edit.kind, escaped(edit.name));
}

// A new address, of a client or of one server, has to be looked up anew.
void forget_old_addresses(const Edit& edit, Value& table) {
  constexpr std::string_view kAddress = "address";
  for (const FieldEdit& field : edit.fields) {
    if (field.path != kAddress && !field.path.ends_with(".address")) continue;
    const std::string looked_up = field.path.substr(0, field.path.size() - kAddress.size()) + "resolved";
    const bool given = std::any_of(edit.fields.begin(), edit.fields.end(),
                                   [&](const FieldEdit& other) { return other.path == looked_up; });
    if (!given) (void)set_field(table, looked_up, std::nullopt);  // nothing to take out is no mistake
  }
}

Status put_object(const Edit& edit, Value table, std::int64_t rank, Objects& objects) {
  for (const FieldEdit& field : edit.fields) {
    const Status done = set_field(table, field.path, field.value);
    if (!done) return done.error().at(fmt::format("{}: '{}'", called(edit), escaped(field.path)));
  }
  forget_old_addresses(edit, table);
  Object object = object_of(edit.kind, std::move(table));
  if (object.name != edit.name && objects.find(edit.kind, object.name) != nullptr &&
      objects.find(edit.kind, object.name) != objects.find(edit.kind, edit.name)) {
    return fail(Errc::conflict, fmt::format("{} '{}' is there already", edit.kind, escaped(object.name)));
  }
  object.rank = rank;
  objects.remove(edit.kind, edit.name);
  objects.put(std::move(object));
  return {};
}

Status put_dictionary(const Edit& edit, Objects& objects) {
  if (!is_dictionary_name(edit.name))
    return fail(
        Errc::malformed,
        fmt::format("{}: a dictionary's name has letters, digits, '.', '-', '_' alone", called(edit)));
  for (const FieldEdit& field : edit.fields) {
    if (field.path != "text" || !field.value || field.value->kind != document::Kind::text)
      return fail(Errc::malformed, fmt::format("{}: a dictionary has its 'text' alone", called(edit)));
    objects.put({std::string(kDictionary), edit.name, 0, field.value->text});
  }
  return {};
}

Status move(const Edit& edit, Objects& objects) {
  const Kind& kind = *kind_named(edit.kind);
  if (!kind.ordered) return fail(Errc::malformed, fmt::format("the order of a {} does not count", edit.kind));
  const std::string& beside = edit.before.empty() ? edit.after : edit.before;
  if (!beside.empty() && objects.find(edit.kind, beside) == nullptr)
    return not_found(edit.kind, beside, objects);
  if (beside == edit.name) return {};
  std::vector<Object> rules;
  Object moving;
  for (const Object* rule : objects.list(edit.kind)) {
    if (rule->name == edit.name) {
      moving = *rule;
    } else {
      rules.push_back(*rule);
    }
  }
  auto at = edit.first ? rules.begin() : rules.end();
  if (!beside.empty()) {
    at = std::find_if(rules.begin(), rules.end(), [&](const Object& rule) { return rule.name == beside; });
    if (edit.before.empty() && at != rules.end()) ++at;
  }
  rules.insert(at, moving);
  // Numbered so that the order is right; differences() finds ranks that change as few rules as it can.
  for (std::size_t i = 0; i < rules.size(); ++i) {
    rules[i].rank = static_cast<std::int64_t>(i);
    objects.put(rules[i]);
  }
  return {};
}

}  // namespace

const Value* find_field(const Value& table, const std::string& path) {
  const auto [head, rest] = head_of(path);
  const Value* found = table.find(head);
  if (found == nullptr || rest.empty()) return found;
  if (found->kind != document::Kind::array) return find_field(*found, rest);
  std::string behind;
  const Value* item = item_named(*found, rest, behind);
  return item == nullptr || behind.empty() ? item : find_field(*item, behind);
}

Error not_found(std::string_view kind, std::string_view name, const Objects& objects) {
  std::string text = fmt::format("{} '{}' not found", kind, escaped(name));
  const auto near = nearest(name, objects.names(kind));
  if (near) text += fmt::format("; nearest: '{}'", escaped(*near));
  return fail(Errc::not_found, text);
}

Status apply(const Edit& edit, Objects& objects) {
  const Kind* kind = kind_named(edit.kind);
  if (kind == nullptr) {
    std::vector<std::string> names;
    for (const Kind& known : kinds()) names.emplace_back(known.name);
    return fail(Errc::not_found,
                fmt::format("a plan has no '{}'; it has: {}", escaped(edit.kind), join(names, ", ")));
  }
  const Object* there = objects.find(edit.kind, edit.name);
  const bool makes = edit.what == Do::add || edit.what == Do::put || (kind->single && edit.what == Do::set);
  if (there != nullptr && edit.what == Do::add)
    return fail(Errc::conflict, fmt::format("{} is there already; to change it: set", called(edit)));
  if (there == nullptr && !makes) return not_found(edit.kind, edit.name, objects);
  if (edit.what == Do::move) return move(edit, objects);
  if (edit.what == Do::remove) {
    objects.remove(edit.kind, edit.name);
    return {};
  }
  if (edit.kind == kDictionary) return put_dictionary(edit, objects);
  if (there != nullptr) return put_object(edit, table_of(*there), there->rank, objects);
  Value table;
  if (!kind->single) table.entries.push_back({"name", {}, document::text_value(edit.name)});
  const auto rules = objects.list(edit.kind);
  const std::int64_t last = !kind->ordered ? 0 : rules.empty() ? kRankStep : rules.back()->rank + kRankStep;
  const Status made = put_object(edit, std::move(table), last, objects);
  const bool placed = edit.first || !edit.before.empty() || !edit.after.empty();
  return made && placed ? move(edit, objects) : made;
}

}  // namespace jembatan::revision
