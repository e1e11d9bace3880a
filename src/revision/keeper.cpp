#include "revision/keeper.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.h"
#include "dictionary/encode.h"
#include "document/write.h"
#include "revision/resolved.h"

namespace jembatan::revision {

using document::Entry;
using document::Value;

// The secrets of one change: sealed, to be stored together with it.
struct Keeper::Sealing {
  const plan::Outside& outside;
  const plan::Plan& plan;  ///< as it will be
  std::map<std::string, Octets> by_mark = {};
};

namespace {

Value kept_value(const std::string& mark) {
  return document::table_value({{"kept", {}, document::text_value(mark)}});
}

Error plan_errors(const document::Problems& problems) {
  return fail(Errc::malformed, fmt::format("the plan has {}", problems.count_text()));
}

// What problems call the objects that are about to change, where they came from somewhere.
std::map<const Object*, std::string> places_of(const Objects& objects, const std::vector<Edit>& edits) {
  std::map<const Object*, std::string> out;
  for (const Edit& edit : edits) {
    const Object* object = objects.find(edit.kind, edit.name);
    if (object != nullptr && !edit.place.empty()) out[object] = edit.place;
  }
  return out;
}

bool is_same(const Object& object, const Objects& before) {
  const Object* was = before.find(object.kind, object.name);
  return was != nullptr && was->text == object.text;
}

Status check_clients(const Objects& before, const Objects& after, const Wish& wish) {
  constexpr std::size_t kMany = 10;
  const auto had = before.list("client");
  const auto gone = static_cast<std::size_t>(std::count_if(had.begin(), had.end(), [&](const Object* client) {
    return after.find("client", client->name) == nullptr;
  }));
  const bool all = gone > 0 && after.list("client").empty();
  const bool most = had.size() >= kMany && gone * 2 > had.size();
  if (wish.force || wish.dry_run || (!all && !most)) return {};
  return fail(Errc::conflict, fmt::format("{} of {} clients would be gone: to do it all the same, --force",
                                          gone, had.size()));
}

std::string subject_of(const std::vector<Edit>& edits) {
  if (edits.size() != 1) return fmt::format("{} objects", edits.size());
  return edits.front().name.empty() ? edits.front().kind
                                    : fmt::format("{} {}", edits.front().kind, edits.front().name);
}

}  // namespace

Keeper::Keeper(Archive& archive, SealKey key, Random& random)
    : archive_(archive), key_(std::move(key)), random_(random) {}

Result<Secret> Keeper::open_kept(const std::string& mark) {
  const auto sealed = archive_.kept(mark);
  if (!sealed) return sealed.error();
  if (sealed->empty())
    return fail(Errc::not_found,
                fmt::format("this node keeps no secret with the mark '{}'; allowed: text, file or env",
                            escaped(mark)));
  return key_.open(mark, *sealed);
}

plan::Outside Keeper::with_kept(plan::Outside outside) {
  outside.kept = [this](const std::string& mark) -> Result<std::string> {
    const auto secret = open_kept(mark);
    if (!secret) return secret.error();
    return std::string(jembatan::text_of(secret->reveal()));
  };
  return outside;
}

Status Keeper::check_base(const Wish& wish, std::uint64_t newest) {
  if (!wish.base || *wish.base == newest) return {};
  const auto last = archive_.revision(newest);
  std::string who;
  if (last) {
    const std::string why = last->message.empty() ? "" : fmt::format("; \"{}\"", escaped(last->message));
    who = fmt::format(": {} made revision {} ({}{})", last->author, last->number, counts_text(last->counts),
                      why);
  }
  return fail(Errc::conflict, fmt::format("the plan has changed since revision {}{}", *wish.base, who));
}

// Replaces each secret of an object by its mark.
Status Keeper::seal_secrets(Sealing& sealing, std::string_view kind, Value& table) {
  const Value* name = table.find("name");
  const std::string owner = fmt::format("{} {}", kind, name == nullptr ? "" : name->text);
  Status out;
  const auto hidden = [&sealing](std::string_view attribute) {
    const auto* known = dictionary::definition_of(*sealing.plan.catalogue, attribute);
    return known != nullptr && known->hiding != dictionary::Hiding::none;
  };
  plan::each_secret(table, hidden, [&](Entry& entry) {
    if (plan::is_kept(entry.value)) return;
    const auto secret = plan::secret_of(entry, sealing.outside);
    if (!secret) {
      out = secret.error();
      return;
    }
    const std::string mark = key_.mark(owner, *secret);
    if (!sealing.by_mark.contains(mark)) sealing.by_mark[mark] = key_.seal(mark, *secret, random_);
    entry.value = kept_value(mark);
  });
  return out;
}

Result<Objects> Keeper::objects_of(const std::vector<document::File>& files, Sealing& sealing) {
  Objects out;
  std::int64_t rank = 0;
  for (const document::File& file : files) {
    if (file.name.starts_with(plan::kDictionaryFolder)) {
      std::string name = file.name.substr(plan::kDictionaryFolder.size());
      name.resize(name.size() - std::min<std::size_t>(name.size(), 5));  // ".toml"
      if (!is_dictionary_name(name)) {
        return fail(Errc::conflict,
                    fmt::format("dictionary '{}': allowed in its name: letters, digits, '.', '-', '_'",
                                escaped(name)));
      }
      out.put({std::string(kDictionary), name, 0, join(file.lines, "\n")});
      continue;
    }
    for (const Entry& section : file.root.entries) {
      std::vector<Value> tables = section.value.items;
      if (section.value.kind == document::Kind::table) tables = {section.value};
      for (Value& table : tables) {
        const Status sealed = seal_secrets(sealing, section.key, table);
        if (!sealed) return sealed.error();
        note_resolved(section.key, table, sealing.plan);
        Object object = object_of(section.key, std::move(table));
        if (kind_named(section.key)->ordered) object.rank = ++rank;
        out.put(std::move(object));
      }
    }
  }
  return out;
}

Result<Applied> Keeper::load(document::Problems& problems) {
  const auto newest = archive_.newest();
  if (!newest) return newest.error();
  Applied out;
  out.revision = *newest;
  auto objects = archive_.objects(*newest);
  if (!objects) return objects.error();
  out.plan = plan::read(sources_of(*objects), with_kept({}), problems);
  if (!out.plan) return plan_errors(problems);
  return out;
}

Result<Applied> Keeper::apply(std::span<const plan::SourceFile> files, plan::Outside outside,
                              const Wish& wish, document::Problems& problems) {
  const auto newest = archive_.newest();
  if (!newest) return newest.error();
  if (const Status base = check_base(wish, *newest); !base) return base.error();
  outside = with_kept(std::move(outside));
  auto parsed = plan::parse(files, problems);
  auto plan = plan::read(parsed, outside, problems);
  if (!plan) return plan_errors(problems);
  Sealing sealing{outside, *plan};
  auto after = objects_of(parsed, sealing);
  if (!after) return after.error();
  const auto before = archive_.objects(*newest);
  if (!before) return before.error();
  if (const Status kept = check_clients(*before, *after, wish); !kept) return kept.error();
  Commit commit;
  commit.revision.source = wish.what;
  commit.audit.action = wish.what == "apply" ? "plan apply" : "plan reload";
  commit.revision.at = wish.at;
  return store({*newest, *before, std::move(*after), std::move(plan), std::move(sealing.by_mark)}, wish,
               std::move(commit));
}

Result<Applied> Keeper::change(const std::vector<Edit>& edits, plan::Outside outside, const Wish& wish,
                               document::Problems& problems) {
  const auto newest = archive_.newest();
  if (!newest) return newest.error();
  if (const Status base = check_base(wish, *newest); !base) return base.error();
  const auto before = archive_.objects(*newest);
  if (!before) return before.error();
  Objects after = *before;
  for (const Edit& edit : edits) {
    const Status done = jembatan::revision::apply(edit, after);
    if (!done) return edit.place.empty() ? done.error() : done.error().at(edit.place);
  }
  outside = with_kept(std::move(outside));
  auto plan = plan::read(sources_of(after, places_of(after, edits)), outside, problems);
  if (!plan) return plan_errors(problems);
  Sealing sealing{outside, *plan};
  if (const Status sealed = seal_changes(sealing, *before, after); !sealed) return sealed.error();
  Commit commit;
  commit.revision.at = wish.at;
  commit.revision.source = "change";
  commit.audit.action = wish.what;
  commit.audit.subject = subject_of(edits);
  return store({*newest, *before, std::move(after), std::move(plan), std::move(sealing.by_mark)}, wish,
               std::move(commit));
}

// Only what was changed can hold secrets that are not kept yet, and host names that nobody has looked up;
// after a change of the dictionaries, all.
Status Keeper::seal_changes(Sealing& sealing, const Objects& before, Objects& after) {
  bool all = false;
  for (const Object* object : after.list(kDictionary)) all = all || !is_same(*object, before);
  for (const Object* object : after.list()) {
    if (object->kind == kDictionary || (!all && is_same(*object, before))) continue;
    Value table = table_of(*object);
    if (const Status sealed = seal_secrets(sealing, object->kind, table); !sealed) return sealed;
    note_resolved(object->kind, table, sealing.plan);
    Object kept = object_of(object->kind, std::move(table));
    kept.rank = object->rank;
    after.put(std::move(kept));
  }
  return {};
}

Result<Applied> Keeper::look_up_again(plan::Outside outside, const Wish& wish, document::Problems& problems) {
  const auto newest = archive_.newest();
  if (!newest) return newest.error();
  const auto before = archive_.objects(*newest);
  if (!before) return before.error();
  const auto with_addresses = [&](auto change) {
    Objects out = *before;
    for (const Object* object : before->list()) {
      if (object->kind != "client" && object->kind != "group") continue;
      Value table = table_of(*object);
      change(object->kind, table);
      Object changed = object_of(object->kind, std::move(table));
      changed.rank = object->rank;
      out.put(std::move(changed));
    }
    return out;
  };
  const Objects unknown =
      with_addresses([](std::string_view kind, Value& table) { forget_resolved(kind, table); });
  auto plan = plan::read(sources_of(unknown), with_kept(std::move(outside)), problems);
  if (!plan) return plan_errors(problems);
  Objects after =
      with_addresses([&](std::string_view kind, Value& table) { note_resolved(kind, table, *plan); });
  Commit commit;
  commit.revision.at = wish.at;
  commit.revision.source = "host names";
  commit.audit.action = wish.what;
  return store({*newest, *before, std::move(after), std::move(plan)}, wish, std::move(commit));
}

Result<Applied> Keeper::restore(std::uint64_t revision, const Wish& wish, document::Problems& problems) {
  const auto newest = archive_.newest();
  if (!newest) return newest.error();
  if (const Status base = check_base(wish, *newest); !base) return base.error();
  if (const auto known = archive_.revision(revision); !known) return known.error();
  const auto before = archive_.objects(*newest);
  auto after = archive_.objects(revision);
  if (!before) return before.error();
  if (!after) return after.error();
  auto plan = plan::read(sources_of(*after), with_kept({}), problems);
  if (!plan) return plan_errors(problems);
  Commit commit;
  commit.revision.at = wish.at;
  commit.revision.source = "restore";
  commit.audit.action = "plan restore";
  commit.audit.detail = fmt::format("as revision {}", revision);
  return store({*newest, *before, std::move(*after), std::move(plan)}, wish, std::move(commit));
}

Result<Applied> Keeper::store(Prepared prepared, const Wish& wish, Commit commit) {
  Applied out;
  out.revision = prepared.newest;
  out.plan = std::move(prepared.plan);
  auto objects = std::make_shared<Objects>(std::move(prepared.after));
  out.changes = differences(prepared.before, *objects);
  out.objects = objects;
  const Counts counts = count(out.changes);
  out.changed = !out.changes.empty();
  if (!out.changed || wish.dry_run) return out;
  commit.revision.number = prepared.newest + 1;
  commit.revision.author = wish.author.name;
  commit.revision.message = wish.message;
  commit.revision.counts = counts;
  commit.changes = out.changes;
  for (auto& [mark, sealed] : prepared.secrets) commit.secrets.push_back({mark, std::move(sealed)});
  AuditEntry& audit = commit.audit;
  audit.at = commit.revision.at;
  audit.author = wish.author.name;
  audit.role = name_of(wish.author.role);
  audit.from = wish.author.from;
  std::string detail = fmt::format("revision {}: {}", commit.revision.number, counts_text(counts));
  if (!wish.message.empty()) detail += fmt::format(" (\"{}\")", escaped(wish.message));
  if (!audit.detail.empty()) detail += ", " + audit.detail;
  audit.detail = std::move(detail);
  if (audit.subject.empty()) audit.subject = "plan";
  if (const Status stored = archive_.commit(commit); !stored) return stored.error();
  out.revision = commit.revision.number;
  return out;
}

Result<Applied> Keeper::difference(std::uint64_t from, std::uint64_t to) {
  for (const std::uint64_t number : {from, to}) {
    if (number == 0) continue;
    if (const auto known = archive_.revision(number); !known) return known.error();
  }
  const auto before = archive_.objects(from);
  auto after = archive_.objects(to);
  if (!before) return before.error();
  if (!after) return after.error();
  Applied out;
  out.revision = to;
  auto objects = std::make_shared<Objects>(std::move(*after));
  out.changes = differences(*before, *objects);
  out.objects = objects;
  out.changed = !out.changes.empty();
  return out;
}

Result<plan::PlanPtr> Keeper::plan_of(std::uint64_t revision) {
  if (const auto known = archive_.revision(revision); !known) return known.error();
  const auto objects = archive_.objects(revision);
  if (!objects) return objects.error();
  document::Problems problems;
  auto plan = plan::read(sources_of(*objects), with_kept({}), problems);
  if (!plan) return plan_errors(problems);
  return plan;
}

Result<std::vector<plan::SourceFile>> Keeper::files(std::uint64_t revision, Secrets secrets) {
  if (const auto known = archive_.revision(revision); !known) return known.error();
  auto objects = archive_.objects(revision);
  if (!objects) return objects.error();
  if (secrets == Secrets::kept) return files_of(*objects);
  for (const Object* object : objects->list()) {
    if (object->kind == kDictionary) continue;
    Value table = table_of(*object);
    Status opened;
    plan::each_secret(table, plan::any_attribute, [&](Entry& entry) {
      if (!plan::is_kept(entry.value)) return;
      const auto secret = open_kept(entry.value.entries.front().value.text);
      if (!secret) {
        opened = secret.error();
      } else {
        entry.value = document::text_value(std::string(jembatan::text_of(secret->reveal())));
      }
    });
    if (!opened) return opened.error().at(fmt::format("{} '{}'", object->kind, object->name));
    Object shown = object_of(object->kind, std::move(table));
    shown.rank = object->rank;
    objects->put(std::move(shown));
  }
  return files_of(*objects);
}

Result<Secret> Keeper::secret(std::string_view kind, std::string_view name, std::string_view field) {
  const auto newest = archive_.newest();
  if (!newest) return newest.error();
  const auto objects = archive_.objects(*newest);
  if (!objects) return objects.error();
  const Object* object = objects->find(kind, name);
  if (object == nullptr) return not_found(kind, name, *objects);
  const Value table = table_of(*object);
  const Value* value = find_field(table, std::string(field));
  if (value == nullptr || !plan::is_kept(*value))
    return fail(Errc::not_found, fmt::format("{} '{}' has no {}", kind, escaped(name), field));
  return open_kept(value->entries.front().value.text);
}

}  // namespace jembatan::revision
