#include "plan/read.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <deque>
#include <set>

#include "base/text.h"
#include "dictionary/read.h"
#include "document/parse.h"
#include "identity/name.h"
#include "plan/draft.h"

namespace jembatan::plan {
namespace {

using document::Entry;
using document::Field;
using document::Kind;
using document::Position;
using document::Reading;

constexpr std::string_view kHere = "here";

// Reads all files into drafts, then looks up what they refer to and builds the tables of the plan.
class Reader {
 public:
  Reader(const SecretSources& secrets, document::Problems& problems, dictionary::CataloguePtr catalogue)
      : context_{secrets, *catalogue}, problems_(problems) {
    plan_.catalogue = std::move(catalogue);
  }

  void read_file(document::File file) {
    files_.push_back(std::move(file));
    const std::size_t index = files_.size() - 1;
    Reading reading(files_[index], problems_);
    for (const Entry& section : files_[index].root.entries) read_section(reading, index, section);
  }

  PlanPtr finish() {
    for (GroupDraft& draft : groups_) add_group(draft);
    for (RealmDraft& draft : realms_) add_realm(draft);
    add_realm_default();
    for (ClientDraft& draft : clients_) add_client(draft);
    for (UserDraft& draft : users_) add_user(draft);
    if (problems_.errors() > 0) return nullptr;
    return std::make_shared<const Plan>(std::move(plan_));
  }

 private:
  void read_section(Reading& reading, std::size_t file, const Entry& section) {
    if (section.key == "client") {
      read_all(reading, file, section, client_fields(), clients_);
    } else if (section.key == "user") {
      read_all(reading, file, section, user_fields(), users_);
    } else if (section.key == "realm") {
      read_all(reading, file, section, realm_fields(), realms_);
    } else if (section.key == "group") {
      read_all(reading, file, section, group_fields(), groups_);
    } else if (section.key == "realm_default") {
      read_realm_default(reading, file, section);
    } else {
      reading.unknown_key(section, "a plan", {"client", "group", "realm", "realm_default", "user"});
    }
  }

  template <class Object>
  void read_all(Reading& reading, std::size_t file, const Entry& section,
                std::span<const Field<Draft<Object>>> fields, std::deque<Draft<Object>>& out) {
    if (section.value.kind != Kind::array) {
      reading.wrong(section, fmt::format("'{}' is {}", section.key, document::name_of(section.value.kind)),
                    fmt::format("[[{}]] tables", section.key));
      return;
    }
    for (const document::Value& item : section.value.items) {
      if (item.kind != Kind::table) {
        reading.wrong({section.key, item.at, item},
                      fmt::format("'{}' holds {}", section.key, document::name_of(item.kind)),
                      fmt::format("[[{}]] tables", section.key));
        continue;
      }
      out.push_back({context_, file, item.at, {}});
      document::read_fields(reading, item, owner_text(section.key, item), fields, out.back());
    }
  }

  void read_realm_default(Reading& reading, std::size_t file, const Entry& section) {
    if (!reading.expect(section, Kind::table)) return;
    if (realm_default_) {
      reading.wrong(section, fmt::format("realm_default stands at {} already",
                                         place(realm_default_->file, realm_default_->at)));
      return;
    }
    realm_default_.emplace(RealmDefaultDraft{context_, file, section.at, {}});
    document::read_fields(reading, section.value, "realm_default", realm_default_fields(), *realm_default_);
  }

  std::string place(std::size_t file, Position at) const {
    return fmt::format("{}:{}", files_[file].name, at.line);
  }

  void problem(std::size_t file, Position at, std::string text, std::string allowed = "") {
    problems_.add(
        {document::Level::error, files_[file].name, at, std::move(text), std::move(allowed), "", 1});
  }

  // Reports a name that stands twice; gives true if it is new.
  bool first_of_its_name(std::string_view section, const std::string& name, std::size_t file, Position at) {
    if (name.empty()) return false;
    const auto [earlier, added] = named_.try_emplace(fmt::format("{} '{}'", section, name), place(file, at));
    if (!added) problem(file, at, fmt::format("{} stands at {} already", earlier->first, earlier->second));
    return added;
  }

  std::optional<std::size_t> group_named(std::size_t file, const Entry& reference, const std::string& name,
                                         const std::vector<std::string>& also_allowed) {
    std::vector<std::string> names = also_allowed;
    for (std::size_t i = 0; i < plan_.groups.size(); ++i) {
      if (plan_.groups[i].name == name) return i;
      names.push_back(plan_.groups[i].name);
    }
    std::string allowed = names.empty() ? "a [[group]] of the plan, which has none" : join(names, ", ");
    if (const auto near = nearest(name, names)) allowed += fmt::format("; nearest: '{}'", *near);
    Reading(files_[file], problems_)
        .wrong(reference,
               fmt::format("'{}' names group '{}', which does not exist", reference.key, escaped(name)),
               allowed);
    return std::nullopt;
  }

  Destination destination(std::size_t file, const Entry& reference) {
    const std::string& name = reference.value.text;
    if (name == kHere) return {Handling::here, 0};
    if (name == "refuse") return {Handling::refuse, 0};
    if (name == "ignore") return {Handling::ignore, 0};
    const auto group = group_named(file, reference, name, {"here", "refuse", "ignore"});
    return {Handling::forward, group.value_or(0)};
  }

  void add_group(GroupDraft& draft) {
    Group& group = draft.object.group;
    first_of_its_name("group", group.name, draft.file, draft.at);
    if (group.servers.empty() || group.servers.size() > kMostServers) {
      problem(draft.file, draft.at,
              fmt::format("group '{}' has {} servers", group.name, group.servers.size()),
              fmt::format("1 to {}", kMostServers));
    }
    std::set<std::string> servers;
    for (std::size_t i = 0; i < group.servers.size(); ++i) {
      if (!servers.insert(group.servers[i].name).second) {
        problem(draft.file, draft.object.servers_at[i],
                fmt::format("group '{}' has server '{}' twice", group.name, group.servers[i].name));
      }
    }
    plan_.groups.push_back(std::move(group));
  }

  void add_realm(RealmDraft& draft) {
    Realm& realm = draft.object.realm;
    if (draft.object.forward.has_value() == draft.object.handle.has_value()) {
      problem(draft.file, draft.at,
              fmt::format("realm '{}' has {} of forward and handle", realm.name,
                          draft.object.handle ? "both" : "none"),
              "one of them");
    }
    if (draft.object.handle) realm.access.handling = *draft.object.handle;
    if (draft.object.forward) {
      const auto group = group_named(draft.file, *draft.object.forward, draft.object.forward->value.text, {});
      realm.access = {Handling::forward, group.value_or(0)};
      realm.accounting.groups = {group.value_or(0)};
    }
    if (draft.object.accounting) realm.accounting = accounting_rule(draft.file, *draft.object.accounting);
    if (!first_of_its_name("realm", identity::comparable(realm.name), draft.file, draft.at)) return;
    plan_.realm_table.insert(realm.name, plan_.realms.size());
    plan_.realms.push_back(std::move(realm));
  }

  AccountingRule accounting_rule(std::size_t file, const Entry& entry) {
    AccountingRule rule{false, {}};
    for (const std::string& name : Reading(files_[file], problems_).texts(entry)) {
      if (name == kHere) {
        rule.here = true;
      } else if (const auto group = group_named(file, entry, name, {"here"})) {
        rule.groups.push_back(*group);
      }
    }
    if (!rule.here && rule.groups.empty()) {
      Reading(files_[file], problems_)
          .wrong(entry, "'accounting' leads nowhere", "an array of here and groups");
    }
    return rule;
  }

  void add_realm_default() {
    if (!realm_default_) return;
    RealmDefaultParts& parts = realm_default_->object;
    if (parts.unknown) parts.realm_default.unknown = destination(realm_default_->file, *parts.unknown);
    if (parts.missing) parts.realm_default.missing = destination(realm_default_->file, *parts.missing);
    plan_.realm_default = parts.realm_default;
  }

  void add_client(ClientDraft& draft) {
    Client& client = draft.object;
    if (!first_of_its_name("client", client.name, draft.file, draft.at)) return;
    const std::size_t taken = plan_.client_table.insert(client.address, plan_.clients.size());
    if (taken != ClientTable::kNone) {
      problem(draft.file, draft.at,
              fmt::format("client '{}' has the address {} of client '{}'", client.name, client.address.text(),
                          plan_.clients[taken].name));
    }
    plan_.clients.push_back(std::move(client));
  }

  void add_user(UserDraft& draft) {
    User& user = draft.object;
    const std::string name = identity::comparable(user.name);
    if (!first_of_its_name("user", name, draft.file, draft.at)) return;
    plan_.user_table.emplace(name, plan_.users.size());
    plan_.users.push_back(std::move(user));
  }

  Context context_;
  document::Problems& problems_;
  std::deque<document::File> files_;
  std::deque<ClientDraft> clients_;
  std::deque<UserDraft> users_;
  std::deque<RealmDraft> realms_;
  std::deque<GroupDraft> groups_;
  std::optional<RealmDefaultDraft> realm_default_;
  std::map<std::string, std::string> named_;  // "client 'x'" → where it stands
  Plan plan_;
};

}  // namespace

PlanPtr read(std::span<const SourceFile> files, const SecretSources& secrets, document::Problems& problems,
             dictionary::CataloguePtr catalogue) {
  Reader reader(secrets, problems, std::move(catalogue));
  for (const SourceFile& source : files) {
    auto file = document::parse(source.name, source.text, problems);
    if (file) reader.read_file(std::move(*file));
  }
  return reader.finish();
}

PlanPtr read_folder(const std::filesystem::path& folder, document::Problems& problems) {
  const auto report = [&](const std::string& text) {
    problems.add(
        {document::Level::error, folder.string(), {}, text, "a readable folder with *.toml files", "", 1});
  };
  std::error_code failed;
  std::vector<std::filesystem::path> paths;
  for (std::filesystem::directory_iterator it(folder, failed), end; !failed && it != end;
       it.increment(failed)) {
    if (it->path().extension() == ".toml") paths.push_back(it->path());
  }
  if (failed) {
    report("plan folder cannot be read: " + failed.message());
    return nullptr;
  }
  if (paths.empty()) {
    report("plan folder has no *.toml file");
    return nullptr;
  }
  std::sort(paths.begin(), paths.end());
  std::vector<SourceFile> files;
  for (const auto& path : paths) {
    auto text = document::read_file(path);
    if (!text) {
      report(text.error().text);
      continue;
    }
    files.push_back({path.lexically_relative(folder).string(), std::move(*text)});
  }
  const SecretSources secrets{
      [&folder](const std::string& name) { return document::read_file(folder / name); },
      [](const std::string& name) -> Result<std::string> {
        const char* value = std::getenv(name.c_str());
        if (value == nullptr)
          return fail(Errc::not_found, fmt::format("environment variable '{}' is not set", name));
        return std::string(value);
      }};
  return read(files, secrets, problems, dictionary::read_catalogue(folder / "dictionaries", problems));
}

}  // namespace jembatan::plan
