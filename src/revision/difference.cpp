#include "revision/difference.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "document/write.h"

namespace jembatan::revision {
namespace {

using document::Entry;
using document::Value;

struct Field {
  std::string text;
  bool secret = false;  ///< then the text is its mark
  bool operator==(const Field& other) const { return text == other.text && secret == other.secret; }
};
using Fields = std::map<std::string, Field>;

std::string name_in(const Value& table) {
  const Value* name = table.find("name");
  return name == nullptr ? "" : name->text;
}

void flatten(const Value& value, const std::string& path, Fields& out) {
  const auto secret = [&](const Value& kept) {
    Field& field = out[path];
    field.text += kept.entries.front().value.text + " ";
    field.secret = true;
  };
  if (plan::is_kept(value)) {
    secret(value);
  } else if (value.kind == document::Kind::array && !value.items.empty() &&
             plan::is_kept(value.items.front())) {
    for (const Value& item : value.items) secret(item);
  } else if (value.kind == document::Kind::table) {
    for (const Entry& entry : value.entries)
      flatten(entry.value, path.empty() ? entry.key : path + "." + entry.key, out);
  } else if (value.kind == document::Kind::array && !value.items.empty() &&
             value.items.front().kind == document::Kind::table) {
    for (const Value& item : value.items) flatten(item, path + "." + name_in(item), out);
  } else {
    out[path].text = document::inline_text(value);
  }
}

// An object's fields; what is secret by its key is taken for kept, wherever the object comes from.
Fields fields_of(const Object& object) {
  Value table = table_of(object);
  plan::each_secret(
      table, [](std::string_view) { return false; },
      [](Entry& entry) {
        if (plan::is_kept(entry.value)) return;
        const std::string text = document::inline_text(entry.value);
        entry.value = document::table_value({{"kept", {}, document::text_value(text)}});
      });
  Fields out;
  flatten(table, "", out);
  return out;
}

std::vector<FieldChange> field_changes(const Object& before, const Object& after) {
  if (before.kind == kDictionary) return {{"text", "", ""}};
  Fields old_fields = fields_of(before);
  Fields new_fields = fields_of(after);
  std::set<std::string> paths;
  for (const auto& [path, text] : old_fields) paths.insert(path);
  for (const auto& [path, text] : new_fields) paths.insert(path);
  std::vector<FieldChange> out;
  for (const std::string& path : paths) {
    Field& was = old_fields[path];
    Field& is = new_fields[path];
    if (was == is) continue;
    if (was.secret || is.secret) {  // one may have become hidden by a dictionary
      if (!is.text.empty()) is.text = was.text.empty() ? "a secret" : "another secret";
      if (!was.text.empty()) was.text = "a secret";
    }
    out.push_back({path, std::move(was.text), std::move(is.text)});
  }
  return out;
}

// Which of the numbers form the longest rising row: those rules stay where they are.
std::vector<bool> longest_rising(const std::vector<std::int64_t>& numbers) {
  std::vector<std::size_t> ends;  // by length - 1
  std::vector<std::size_t> before(numbers.size(), numbers.size());
  for (std::size_t i = 0; i < numbers.size(); ++i) {
    const auto at = std::lower_bound(ends.begin(), ends.end(), numbers[i],
                                     [&](std::size_t end, std::int64_t n) { return numbers[end] < n; });
    if (at != ends.begin()) before[i] = *(at - 1);
    if (at == ends.end()) {
      ends.push_back(i);
    } else {
      *at = i;
    }
  }
  std::vector<bool> out(numbers.size(), false);
  for (std::size_t i = ends.empty() ? numbers.size() : ends.back(); i < numbers.size(); i = before[i])
    out[i] = true;
  return out;
}

// Ranks for the rules of one kind in their new order; gives the names of those that moved.
std::set<std::string> rank_rules(const Objects& before, Objects& after, std::string_view kind) {
  std::vector<Object> rules;
  for (const Object* rule : after.list(kind)) rules.push_back(*rule);
  std::vector<std::size_t> known;  // places of the rules that were there before
  std::vector<std::int64_t> old_ranks;
  for (std::size_t i = 0; i < rules.size(); ++i) {
    const Object* old = before.find(kind, rules[i].name);
    if (old == nullptr) continue;
    known.push_back(i);
    old_ranks.push_back(old->rank);
  }
  const std::vector<bool> stays = longest_rising(old_ranks);
  std::vector<std::int64_t> fixed(rules.size(), -1);
  std::set<std::string> moved;
  for (std::size_t i = 0; i < known.size(); ++i) {
    if (stays[i]) fixed[known[i]] = old_ranks[i];
    if (!stays[i]) moved.insert(rules[known[i]].name);
  }
  bool room = true;
  std::int64_t last = 0;
  for (std::size_t i = 0; i < rules.size();) {
    if (fixed[i] >= 0) {
      last = rules[i].rank = fixed[i];
      ++i;
      continue;
    }
    std::size_t end = i;
    while (end < rules.size() && fixed[end] < 0) ++end;
    const auto count = static_cast<std::int64_t>(end - i) + 1;
    const std::int64_t next = end < rules.size() ? fixed[end] : last + kRankStep * count;
    const std::int64_t step = (next - last) / count;
    room = room && step > 0;
    for (; i < end; ++i) last = rules[i].rank = last + step;
  }
  for (std::size_t i = 0; i < rules.size(); ++i) {
    if (!room) rules[i].rank = static_cast<std::int64_t>(i + 1) * kRankStep;
    after.put(rules[i]);
  }
  return moved;
}

std::string place_of(const Objects& objects, const Object& rule) {
  const auto all = objects.list(rule.kind);
  const auto at = std::find(all.begin(), all.end(), &rule);
  return at + 1 == all.end() ? "last" : fmt::format("before '{}'", (*(at + 1))->name);
}

}  // namespace

std::string_view name_of(What what) {
  static constexpr std::string_view kNames[] = {"added", "changed", "removed", "moved", "renumbered"};
  return kNames[static_cast<std::size_t>(what)];
}

std::vector<ObjectChange> differences(const Objects& before, Objects& after) {
  std::map<std::string, std::set<std::string>> moved;
  for (const Kind& kind : kinds()) {
    if (kind.ordered) moved[std::string(kind.name)] = rank_rules(before, after, kind.name);
  }
  std::vector<ObjectChange> out;
  for (const Kind& kind : kinds()) {
    for (const Object* object : before.list(kind.name)) {
      if (after.find(kind.name, object->name) == nullptr)
        out.push_back({What::removed, object->kind, object->name, object->name, {}, "", nullptr});
    }
    for (const Object* object : after.list(kind.name)) {
      const Object* old = before.find(kind.name, object->name);
      if (old == nullptr) {
        out.push_back({What::added,
                       object->kind,
                       object->name,
                       "",
                       {},
                       kind.ordered ? place_of(after, *object) : "",
                       object});
        continue;
      }
      const bool has_moved = kind.ordered && moved[object->kind].contains(object->name);
      if (old->text == object->text && old->rank == object->rank) continue;
      ObjectChange change{
          has_moved ? What::moved : What::changed, object->kind, object->name, old->name, {}, "", object};
      if (old->text != object->text) change.fields = field_changes(*old, *object);
      if (has_moved) change.place = place_of(after, *object);
      if (!has_moved && old->text == object->text) change.what = What::renumbered;
      out.push_back(std::move(change));
    }
  }
  return out;
}

}  // namespace jembatan::revision
