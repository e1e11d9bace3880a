#include "plan/read.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.h"
#include "dictionary/read.h"
#include "document/parse.h"
#include "identity/name.h"
#include "plan/advice.h"
#include "plan/assignments.h"
#include "plan/device.h"
#include "plan/drafts.h"
#include "plan/edit_check.h"
#include "wire/attribute.h"

namespace jembatan::plan {
namespace {

using document::Entry;
using document::Position;
using document::Reading;

constexpr std::string_view kHere = "here";

bool is_dictionary(const document::File& file) {
  return file.name.starts_with(kDictionaryFolder);
}

dictionary::CataloguePtr catalogue_of(const std::vector<document::File>& files,
                                      document::Problems& problems) {
  if (std::none_of(files.begin(), files.end(), is_dictionary)) return dictionary::standard_catalogue();
  auto out = std::make_shared<dictionary::Catalogue>(dictionary::standard());
  for (const document::File& file : files) {
    if (is_dictionary(file)) dictionary::read_into(*out, file, problems);
  }
  return out;
}

// Reads all files into drafts, then looks up what they refer to and builds the tables of the plan.
class Reader {
 public:
  Reader(std::vector<document::File> files, const Outside& outside, document::Problems& problems,
         dictionary::CataloguePtr catalogue)
      : files_(std::move(files)), context_{outside, *catalogue}, problems_(problems) {
    plan_.catalogue = std::move(catalogue);
  }

  void read_files() {
    for (std::size_t i = 0; i < files_.size(); ++i) {
      if (!is_dictionary(files_[i])) read_drafts({files_, i}, context_, problems_, drafts_);
    }
  }

  PlanPtr finish() {
    for (GroupDraft& draft : drafts_.groups) add_group(draft);
    for (std::size_t i = 0; i < drafts_.groups.size(); ++i)
      plan_.groups[i].mirror = mirror(drafts_.groups[i].file, drafts_.groups[i].object.mirror, i);
    for (DirectoryDraft& draft : drafts_.directories) add_directory(draft);
    for (FactorDraft& draft : drafts_.factors) add_factor(draft);
    for (EnrolmentDraft& draft : drafts_.enrolments) add_enrolment(draft);
    for (RealmDraft& draft : drafts_.realms) add_realm(draft);
    add_realm_default();
    if (drafts_.sign_in) plan_.sign_in = std::move(drafts_.sign_in->object);
    for (RouteDraft& draft : drafts_.routes) add_route(draft);
    for (ReplySetDraft& draft : drafts_.reply_sets) add_reply_set(draft);
    for (EditDraft& draft : drafts_.edits) add_edit(draft);
    for (AccessDraft& draft : drafts_.access) add_access(draft);
    for (ClientDraft& draft : drafts_.clients) add_client(draft);
    for (UserDraft& draft : drafts_.users) add_user(draft);
    if (problems_.errors() > 0) return nullptr;
    plan_.vlan_giver = first_vlan_giver(plan_);
    for (const Route& route : plan_.routes) plan_.route_index.add(&route.when);
    for (const AccessRule& rule : plan_.access_rules)
      plan_.access_index.add(rule.when ? &*rule.when : nullptr);
    advise(plan_, places_, context_.outside.now, [this](const Place& place, const Advice& advice) {
      Reading(files_[place.file], problems_).advise(place.at, advice.rule, advice.text, advice.mend);
    });
    return std::make_shared<const Plan>(std::move(plan_));
  }

 private:
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

  // The place of the object of that name.
  template <class Object>
  std::optional<std::size_t> named_in(std::size_t file, const Entry& reference, const std::string& name,
                                      const std::vector<Object>& all, std::string_view section) {
    std::vector<std::string> known;
    for (const Object& one : all) known.push_back(one.name);
    const auto found = std::find(known.begin(), known.end(), name);
    if (found != known.end()) return static_cast<std::size_t>(found - known.begin());
    std::string allowed =
        known.empty() ? fmt::format("a [[{}]] of the plan, which has none", section) : join(known, ", ");
    if (const auto near = nearest(name, known)) allowed += fmt::format("; nearest: '{}'", *near);
    std::string words(section);
    std::replace(words.begin(), words.end(), '_', ' ');
    Reading(files_[file], problems_)
        .wrong(reference,
               fmt::format("'{}' names {} '{}', which does not exist", reference.key, words, escaped(name)),
               allowed);
    return std::nullopt;
  }

  // "group:NAME" as the place of the group; `allowed` are the words that may stand instead.
  std::optional<std::size_t> group_in(std::size_t file, const Entry& reference, const std::string& text,
                                      std::vector<std::string> allowed) {
    static constexpr std::string_view kForward = "group:";
    const std::string name = text.starts_with(kForward) ? text.substr(kForward.size()) : text;
    std::string all = allowed.empty() ? "group:NAME" : join(allowed, ", ") + ", group:NAME";
    for (std::size_t i = 0; i < plan_.groups.size(); ++i) {
      if (plan_.groups[i].name == name && text != name) return i;
      if (plan_.groups[i].name == name) allowed = {};  // that is what was meant
      allowed.push_back(std::string(kForward) + plan_.groups[i].name);
    }
    auto near = nearest(text, allowed);
    if (!near) near = nearest(std::string(kForward) + name, allowed);
    if (near) all += fmt::format("; nearest: '{}'", *near);
    Reading(files_[file], problems_)
        .wrong(reference,
               text == name
                   ? fmt::format("'{}' is '{}'", reference.key, escaped(text))
                   : fmt::format("'{}' names group '{}', which does not exist", reference.key, escaped(name)),
               all);
    return std::nullopt;
  }

  Destination destination(std::size_t file, const Entry& reference) {
    const std::string& text = reference.value.text;
    if (text == kHere) return {Handling::here, 0};
    if (text == "refuse") return {Handling::refuse, 0};
    if (text == "ignore") return {Handling::ignore, 0};
    return {Handling::forward, group_in(file, reference, text, {"here", "refuse", "ignore"}).value_or(0)};
  }

  // Of what goes to the group `from`.
  std::optional<Mirror> mirror(std::size_t file, std::optional<MirrorParts>& parts, std::size_t from) {
    if (!parts) return std::nullopt;
    const auto to = group_in(file, parts->to, parts->to.value.text, {});
    if (!to) return std::nullopt;
    if (*to == from)
      Reading(files_[file], problems_)
          .wrong(parts->to, fmt::format("group '{}' would be mirrored to itself", plan_.groups[from].name),
                 "another group");
    parts->mirror.group = *to;
    return std::move(parts->mirror);
  }

  void add_group(GroupDraft& draft) {
    Group& group = draft.object.group;
    first_of_its_name("group", group.name, draft.file, draft.at);
    if (group.servers.empty() || group.servers.size() > kMostServers) {
      problem(draft.file, draft.at,
              fmt::format("group '{}' has {} servers", group.name, group.servers.size()),
              fmt::format("1 to {}", kMostServers));
    }
    std::map<std::string, document::Position> entries;  // a host name's servers stand where their entry does
    std::set<std::string> names;
    for (std::size_t i = 0; i < group.servers.size(); ++i) {
      const Server& server = group.servers[i];
      const document::Position at = draft.object.servers_at[i];
      if (names.insert(server.name).second && entries.emplace(server.entry, at).first->second == at) continue;
      problem(draft.file, at, fmt::format("group '{}' has server '{}' twice", group.name, server.entry));
    }
    places_.groups.push_back({draft.file, draft.at});
    plan_.groups.push_back(std::move(group));
  }

  void add_directory(DirectoryDraft& draft) {
    Directory& directory = draft.object.directory;
    if (!first_of_its_name("directory", directory.name, draft.file, draft.at)) return;
    complete(directory);
    for (const auto& [text, allowed] : mistakes_of(directory, draft.object.has_secret))
      problem(draft.file, draft.at, fmt::format("directory '{}' {}", directory.name, text), allowed);
    places_.directories.push_back({draft.file, draft.at});
    plan_.directories.push_back(std::move(directory));
  }

  void add_factor(FactorDraft& draft) {
    Factor& factor = draft.object;
    if (!first_of_its_name("factor", factor.name, draft.file, draft.at)) return;
    if (factor.message.empty()) factor.message = "One-time code:";
    places_.factors.push_back({draft.file, draft.at});
    plan_.factors.push_back(std::move(factor));
  }

  void add_enrolment(EnrolmentDraft& draft) {
    Enrolment& enrolment = draft.object.enrolment;
    if (!first_of_its_name("enrolment", enrolment.token.name, draft.file, draft.at) || !draft.object.factor)
      return;
    const auto factor =
        named_in(draft.file, *draft.object.factor, draft.object.factor->value.text, plan_.factors, "factor");
    if (!factor) return;
    enrolment.factor = *factor;
    enrolment.token.digits = plan_.factors[*factor].digits;
    auto& tokens = plan_.enrolment_table[identity::comparable(enrolment.user)];
    if (tokens.size() == kMostTokens)
      problem(draft.file, draft.at, fmt::format("user '{}' has too many tokens", escaped(enrolment.user)),
              fmt::format("at most {}", kMostTokens));
    tokens.push_back(plan_.enrolments.size());
    places_.enrolments.push_back({draft.file, draft.at});
    plan_.enrolments.push_back(std::move(enrolment));
  }

  void add_realm(RealmDraft& draft) {
    Realm& realm = draft.object.realm;
    if (draft.object.directory) {
      realm.directory = named_in(draft.file, *draft.object.directory, draft.object.directory->value.text,
                                 plan_.directories, "directory");
      if (draft.object.handle && draft.object.handle->value.text != kHere)
        Reading(files_[draft.file], problems_)
            .wrong(*draft.object.directory, fmt::format("realm '{}' is not handled here", realm.name),
                   "handle = \"here\", or no directory");
    }
    if (draft.object.handle) realm.access = destination(draft.file, *draft.object.handle);
    if (realm.access.handling == Handling::forward) realm.accounting.groups = {realm.access.group};
    if (draft.object.accounting) realm.accounting = accounting_rule(draft.file, *draft.object.accounting);
    if (!first_of_its_name("realm", identity::comparable(realm.name), draft.file, draft.at)) return;
    plan_.realm_table.insert(realm.name, plan_.realms.size());
    for (const std::string& alias : realm.aliases) add_alias(draft, alias);
    places_.realms.push_back({draft.file, draft.at});
    plan_.realms.push_back(std::move(realm));
  }

  void add_alias(const RealmDraft& draft, const std::string& alias) {
    if (draft.object.realm.name.find('*') != std::string::npos) {
      Reading(files_[draft.file], problems_)
          .wrong(*draft.object.aliases, "a pattern has no aliases", "aliases of one realm");
    } else if (first_of_its_name("realm", identity::comparable(alias), draft.file, draft.at)) {
      plan_.realm_table.insert(alias, plan_.realms.size());
    }
  }

  AccountingRule accounting_rule(std::size_t file, const Entry& entry) {
    AccountingRule rule{false, {}};
    for (const std::string& name : Reading(files_[file], problems_).texts(entry)) {
      if (name == kHere) {
        rule.here = true;
      } else if (const auto group = group_in(file, entry, name, {"here"})) {
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
    if (!drafts_.realm_default) return;
    RealmDefaultParts& parts = drafts_.realm_default->object;
    if (parts.unknown) parts.realm_default.unknown = destination(drafts_.realm_default->file, *parts.unknown);
    if (parts.missing) parts.realm_default.missing = destination(drafts_.realm_default->file, *parts.missing);
    if (parts.accounting)
      parts.realm_default.accounting = accounting_rule(drafts_.realm_default->file, *parts.accounting);
    plan_.realm_default = parts.realm_default;
  }

  void add_route(RouteDraft& draft) {
    RouteParts& parts = draft.object;
    if (!first_of_its_name("route", parts.name, draft.file, draft.at) || !parts.when || !parts.handle) return;
    Route route{parts.name, std::move(*parts.when), {}, parts.message, parts.access, parts.accounting, {}};
    route.destination = destination(draft.file, *parts.handle);
    if (parts.mirror && route.destination.handling != Handling::forward)
      Reading(files_[draft.file], problems_)
          .wrong(*parts.handle, fmt::format("route '{}' forwards nothing that could be mirrored", parts.name),
                 "handle = \"group:NAME\", or no mirror");
    route.mirror = mirror(draft.file, parts.mirror, route.destination.group);
    places_.routes.push_back({draft.file, draft.at});
    plan_.routes.push_back(std::move(route));
  }

  void add_access(AccessDraft& draft) {
    AccessRule& rule = draft.object.rule;
    Reading reading(files_[draft.file], problems_);
    const AssignedIn packet = rule.permit ? AssignedIn::accept : AssignedIn::reject;
    if (draft.object.reply) rule.reply = read_assignments(reading, *draft.object.reply, context_, packet);
    if (draft.object.also) rule.also = also_of(draft.file, *draft.object.also, rule.permit);
    if (draft.object.factors) rule.factors = factors_of(draft.file, *draft.object.factors, rule.permit);
    if (rule.factors_unless && rule.factors.empty())
      problem(draft.file, draft.at,
              fmt::format("access rule '{}' has 'factors_unless' without 'factors'", rule.name),
              "both, or neither of them");
    if (!first_of_its_name("access", rule.name, draft.file, draft.at)) return;
    places_.access_rules.push_back({draft.file, draft.at});
    for (const auto* when : {&rule.when, &rule.factors_unless})
      plan_.asks_sessions = plan_.asks_sessions || (*when && (*when)->uses(condition::Fact::sessions));
    plan_.access_rules.push_back(std::move(rule));
  }

  std::vector<std::size_t> also_of(std::size_t file, const Entry& entry, bool permit) {
    return of_permission(file, entry, permit, plan_.reply_sets, "reply_set");
  }

  std::vector<std::size_t> factors_of(std::size_t file, const Entry& entry, bool permit) {
    return of_permission(file, entry, permit, plan_.factors, "factor");
  }

  // The places of what a rule names, which makes sense only if it permits.
  template <class Object>
  std::vector<std::size_t> of_permission(std::size_t file, const Entry& entry, bool permit,
                                         const std::vector<Object>& all, std::string_view section) {
    Reading reading(files_[file], problems_);
    if (!permit)
      reading.wrong(entry, fmt::format("'{}' stands in a rule that denies", entry.key),
                    "rules with permit = true");
    std::vector<std::size_t> out;
    for (const std::string& name : reading.texts(entry)) {
      if (const auto place = named_in(file, entry, name, all, section)) out.push_back(*place);
    }
    return out;
  }

  void add_reply_set(ReplySetDraft& draft) {
    if (first_of_its_name("reply_set", draft.object.name, draft.file, draft.at))
      plan_.reply_sets.push_back(std::move(draft.object));
  }

  void add_edit(EditDraft& draft) {
    Edit& edit = draft.object.edit;
    Reading reading(files_[draft.file], problems_);
    const auto values = [&](const Reference& table) {
      if (!table) return Assignments{};
      return read_assignments(reading, *table, context_, AssignedIn::edit);
    };
    edit.sets = values(draft.object.sets);
    edit.adds = values(draft.object.adds);
    if (changes_nothing(edit) && problems_.errors() == 0)
      problem(draft.file, draft.at, fmt::format("edit '{}' changes nothing", edit.name),
              "one or more of copy, rename, remove, set, add");
    for (const std::string& leak : leaks_of(edit))
      problem(draft.file, draft.at, leak, "hidden attributes for what a pattern takes out of a hidden one");
    if (!first_of_its_name("edit", edit.name, draft.file, draft.at)) return;
    plan_.has_edits[static_cast<std::size_t>(edit.at)] = true;
    plan_.edits.push_back(std::move(edit));
  }

  void add_client(ClientDraft& draft) {
    Client& client = draft.object.client;
    find_host(draft);
    if (!first_of_its_name("client", client.name, draft.file, draft.at)) return;
    if (draft.object.has_address) {
      const std::size_t taken = plan_.client_table.insert(client.address, plan_.clients.size());
      if (taken != ClientTable::kNone) {
        problem(draft.file, draft.at,
                fmt::format("client '{}' has the address {} of client '{}'", client.name,
                            client.address.text(), plan_.clients[taken].name));
      }
    }
    places_.clients.push_back({draft.file, draft.at});
    if (client.authorization_port != 0) {
      client.device = plan_.devices.size();
      plan_.devices.push_back(device_of(client));
    }
    plan_.client_names.emplace(client.name, plan_.clients.size());
    plan_.clients.push_back(std::move(client));
  }

  // The address of a client with a host name: as it was resolved before, or looked up now if that is
  // possible.
  void find_host(ClientDraft& draft) {
    Client& client = draft.object.client;
    std::optional<IpAddress> found = draft.object.resolved;
    if (client.host.empty()) {
      if (found)
        problem(draft.file, draft.at,
                fmt::format("client '{}' has 'resolved' without a host name", client.name));
      return;
    }
    if (!found && context_.outside.resolve) {
      auto looked_up = context_.outside.resolve(client.host);
      if (looked_up) found = looked_up->front();
      if (!looked_up) {
        Reading(files_[draft.file], problems_)
            .wrong(*draft.object.address, fmt::format("'address': {}", looked_up.error().text));
      }
    }
    if (!found) return;
    client.address = {*found, static_cast<std::uint8_t>(found->bits())};
    draft.object.has_address = true;
  }

  void add_user(UserDraft& draft) {
    User& user = draft.object.user;
    const std::string name = identity::comparable(user.name);
    if (!first_of_its_name("user", name, draft.file, draft.at)) return;
    for (const std::string& client : user.clients) {
      if (const auto known = find_client(plan_, client); !known)
        Reading(files_[draft.file], problems_)
            .wrong(*draft.object.clients, fmt::format("'clients': {}", known.error().text));
    }
    plan_.user_table.emplace(name, plan_.users.size());
    if (user.password.slow() && !plan_.slow_user) plan_.slow_user = plan_.users.size();
    places_.users.push_back({draft.file, draft.at});
    plan_.users.push_back(std::move(user));
  }

  std::vector<document::File> files_;
  Context context_;
  document::Problems& problems_;
  Drafts drafts_;
  std::map<std::string, std::string> named_;  // "client 'x'" → where it stands
  Plan plan_;
  Places places_;
};

}  // namespace

std::vector<document::File> parse(std::span<const SourceFile> files, document::Problems& problems) {
  std::vector<document::File> out;
  for (const SourceFile& source : files) {
    auto file = document::parse(source.name, source.text, problems);
    if (file) out.push_back(std::move(*file));
  }
  return out;
}

PlanPtr read(std::vector<document::File> files, const Outside& outside, document::Problems& problems) {
  auto catalogue = catalogue_of(files, problems);
  Reader reader(std::move(files), outside, problems, std::move(catalogue));
  reader.read_files();
  return reader.finish();
}

PlanPtr read(std::span<const SourceFile> files, const Outside& outside, document::Problems& problems) {
  return read(parse(files, problems), outside, problems);
}

}  // namespace jembatan::plan
