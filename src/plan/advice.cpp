#include "plan/advice.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "base/text.h"
#include "identity/challenge.h"

namespace jembatan::plan {
namespace {

using namespace std::chrono_literals;

constexpr std::size_t kShortSecret = 16;  // RFC 2865 §3
constexpr double kWeakSecretBits = 60;
constexpr Duration kPatience = 30s;  // most devices have given up by then
constexpr std::size_t kMostNames = 4;

// How many bits a guesser needs, if each octet is as likely as it is often: an upper bound.
double entropy_bits(OctetView secret) {
  std::map<std::uint8_t, double> often;
  for (const std::uint8_t octet : secret) often[octet] += 1;
  double bits = 0;
  const double size = static_cast<double>(secret.size());
  for (const auto& [octet, count] : often) bits -= count * std::log2(count / size);
  return bits;
}

std::string some_names(const std::vector<std::string>& names) {
  const std::vector<std::string> some(
      names.begin(), names.begin() + static_cast<std::ptrdiff_t>(std::min(names.size(), kMostNames)));
  std::string out = "'" + join(some, "', '") + "'";
  if (names.size() > kMostNames) out += fmt::format(" and {} more", names.size() - kMostNames);
  return out;
}

// Names that people take for the same: letter case, spaces, '-' and '_' left out.
std::string folded(std::string_view name) {
  std::string out = lower(name);
  std::erase_if(out, [](char c) { return c == ' ' || c == '-' || c == '_'; });
  return out;
}

class Adviser {
 public:
  Adviser(const Plan& plan, const Places& places, std::optional<WallTime> now,
          const std::function<void(const Place&, const Advice&)>& report)
      : plan_(plan), places_(places), now_(now), report_(report) {}

  void run() {
    client_secrets();
    server_secrets();
    overlaps();
    rotations();
    waits();
    groups();
    near_misses();
    label_misses();
    shadowed();
    circles();
    spaces();
    empty_passwords();
    interims();
    user_groups();
    methods();
    if (now_) dates(*now_);
  }

 private:
  void secret(const Place& place, const std::string& owner, std::string_view noun, OctetView secret) {
    const std::string mend =
        fmt::format("jembatan {} secret rotate, or 16 and more characters by chance", noun);
    if (text_of(secret).find_first_of("\r\n") != std::string_view::npos)
      report_(place, {"secret-of-lines", fmt::format("the secret of {} has several lines", owner),
                      "a file that holds the secret alone"});
    if (secret.size() < kShortSecret) {
      report_(place,
              {"weak-secret", fmt::format("the secret of {} has {} characters", owner, secret.size()), mend});
    } else if (entropy_bits(secret) < kWeakSecretBits) {
      report_(place, {"weak-secret", fmt::format("the secret of {} repeats few characters", owner), mend});
    }
  }

  void client_secrets() {
    std::map<std::string_view, std::vector<std::size_t>> by_secret;
    for (std::size_t i = 0; i < plan_.clients.size(); ++i) {
      const Client& client = plan_.clients[i];
      secret(places_.clients[i], fmt::format("client '{}'", client.name), "client", client.secret.reveal());
      by_secret[text_of(client.secret.reveal())].push_back(i);
    }
    for (const auto& [secret, owners] : by_secret) {
      if (owners.size() < 2) continue;
      std::vector<std::string> names;
      for (const std::size_t i : owners) names.push_back(plan_.clients[i].name);
      report_(places_.clients[owners.front()],
              {"shared-by-clients",
               fmt::format("{} clients have the same secret: {}", owners.size(), some_names(names)),
               "one secret for each, so that one device that is lost opens no other"});
    }
  }

  void server_secrets() {
    for (std::size_t g = 0; g < plan_.groups.size(); ++g) {
      const std::vector<Server>& servers = plan_.groups[g].servers;
      for (std::size_t s = 0; s < servers.size(); ++s) {
        if (s > 0 && servers[s].entry == servers[s - 1].entry) continue;  // one of its addresses
        secret(places_.groups[g], fmt::format("server '{}'", servers[s].entry), "group",
               servers[s].secret.reveal());
      }
    }
  }

  void overlaps() {
    std::map<std::size_t, std::vector<std::string>> inside;
    for (const Client& client : plan_.clients) {
      if (!client.host.empty() && client.address.length == 0) continue;
      const std::size_t around = plan_.client_table.around(client.address);
      if (around != ClientTable::kNone) inside[around].push_back(client.name);
    }
    for (const auto& [outer, names] : inside) {
      const Client& client = plan_.clients[outer];
      report_(places_.clients[outer],
              {"overlap",
               fmt::format("client '{}' ({}) holds addresses of {}: the longer prefix wins there",
                           client.name, client.address.text(), some_names(names)),
               "nothing, if that is meant"});
    }
  }

  void rotations() {
    for (std::size_t i = 0; i < plan_.clients.size(); ++i) {
      const Client& client = plan_.clients[i];
      if (!client.old_secret || client.message_authenticator == SignatureRule::always) continue;
      report_(
          places_.clients[i],
          {"unsigned-rotation",
           fmt::format("client '{}' has two secrets, and may send requests that show neither", client.name),
           "unsigned access requests are read with the new secret alone: finish the rotation soon"});
    }
  }

  // How long a request can be under way in a group before the last of its servers has been asked.
  static Duration time_until_tier(const Group& group, std::uint16_t priority) {
    Duration out{0};
    for (const Server& server : group.servers) {
      if (server.priority < priority) out += wait_of_server(group);
    }
    return out;
  }

  void waits() {
    std::set<std::size_t> used = used_groups();
    for (std::size_t i = 0; i < plan_.clients.size(); ++i) {
      const Client& client = plan_.clients[i];
      if (client.waits == Duration{0}) continue;
      for (const std::size_t g : used) {
        const Group& group = plan_.groups[g];
        const Duration one = wait_of_server(group);
        if (client.waits > one || group.servers.size() < 2) continue;
        report_(
            places_.clients[i],
            {"gives-up-early",
             fmt::format("client '{}' waits {}, but group '{}' asks its second server after {}", client.name,
                         jembatan::text_of(client.waits), group.name, jembatan::text_of(one)),
             "a shorter answer_within or fewer attempts in the group, or a device that waits longer"});
      }
    }
  }

  std::set<std::size_t> used_groups() const {
    std::set<std::size_t> out;
    const auto uses = [&out](const Destination& destination) {
      if (destination.handling == Handling::forward) out.insert(destination.group);
    };
    for (const Realm& realm : plan_.realms) {
      uses(realm.access);
      out.insert(realm.accounting.groups.begin(), realm.accounting.groups.end());
    }
    for (const Route& route : plan_.routes) uses(route.destination);
    uses(plan_.realm_default.unknown);
    uses(plan_.realm_default.missing);
    if (plan_.realm_default.accounting)
      out.insert(plan_.realm_default.accounting->groups.begin(),
                 plan_.realm_default.accounting->groups.end());
    return out;
  }

  void groups() {
    const std::set<std::size_t> used = used_groups();
    for (std::size_t g = 0; g < plan_.groups.size(); ++g) {
      const Group& group = plan_.groups[g];
      if (!used.contains(g) && !plan_.is_mirror(g)) {
        report_(places_.groups[g],
                {"unused-group", fmt::format("nothing is forwarded to group '{}'", group.name),
                 fmt::format("a realm with handle = \"group:{}\", or take the group away", group.name)});
      }
      std::map<std::uint16_t, std::vector<const Server*>> tiers;
      for (const Server& server : group.servers) tiers[server.priority].push_back(&server);
      for (const auto& [priority, servers] : tiers) tier(places_.groups[g], group, priority, servers);
    }
  }

  void tier(const Place& place, const Group& group, std::uint16_t priority,
            const std::vector<const Server*>& servers) {
    if (servers.size() == 1 && servers.front()->weight != 1) {
      report_(place, {"lone-weight",
                      fmt::format("server '{}' of group '{}' has weight {}, but is alone with priority {}",
                                  servers.front()->name, group.name, servers.front()->weight, priority),
                      "the same priority for the servers that are to share, or no weight"});
    }
    std::vector<std::string> idle;
    for (const Server* server : servers) {
      if (server->weight == 0 && servers.size() > 1) idle.push_back(server->name);
    }
    if (!idle.empty() && idle.size() < servers.size()) {
      report_(place, {"no-share",
                      fmt::format("weight 0: {} of group '{}' gets nothing while others answer",
                                  some_names(idle), group.name),
                      "a weight, or a higher number as priority"});
    }
    const Duration until = time_until_tier(group, priority);
    if (until >= kPatience) {
      report_(place,
              {"late-tier",
               fmt::format("priority {} of group '{}' gets its turn after {}: a silent start is not survived",
                           priority, group.name, jembatan::text_of(until)),
               "a shorter answer_within, fewer attempts, or fewer servers before it"});
    }
  }

  void near_miss(std::string_view kind, const std::vector<std::string>& names,
                 const std::vector<Place>& places) {
    std::map<std::string, std::size_t> first;
    for (std::size_t i = 0; i < names.size(); ++i) {
      const auto [known, added] = first.try_emplace(folded(names[i]), i);
      if (added) continue;
      report_(places[i], {"near-miss",
                          fmt::format("{} '{}' is nearly called like {} '{}'", kind, names[i], kind,
                                      names[known->second]),
                          "one of them, or names that cannot be mixed up"});
    }
  }

  void near_misses() {
    std::vector<std::string> names;
    for (const Client& client : plan_.clients) names.push_back(client.name);
    near_miss("client", names, places_.clients);
    names.clear();
    for (const Group& group : plan_.groups) names.push_back(group.name);
    near_miss("group", names, places_.groups);
  }

  // Values of one label that differ in letter case or spaces alone.
  void label_misses() {
    std::map<std::pair<std::string, std::string>, std::string> seen;  // label, folded value → value
    std::set<std::string> told;
    for (std::size_t i = 0; i < plan_.clients.size(); ++i) {
      for (const auto& [label, value] : plan_.clients[i].labels) {
        std::string key = lower(value);
        std::erase(key, ' ');
        const auto [known, added] = seen.try_emplace({label, key}, value);
        if (added || known->second == value || !told.insert(label + "\n" + value).second) continue;
        report_(places_.clients[i], {"near-miss",
                                     fmt::format("label {} = '{}' of client '{}' is elsewhere '{}'", label,
                                                 value, plan_.clients[i].name, known->second),
                                     "the same value for both"});
      }
    }
  }

  // True if every request for which `later` holds is one for which `earlier` holds, as far as their texts
  // tell: the same condition, or all parts of the earlier one among the parts of the later one.
  static bool covers(const condition::Condition* earlier, const condition::Condition* later) {
    if (earlier == nullptr) return true;
    if (later == nullptr) return false;
    if (earlier->source() == later->source()) return true;
    const auto parts = earlier->all_of();
    const auto among = later->all_of();
    return !parts.empty() && std::all_of(parts.begin(), parts.end(), [&](std::string_view part) {
      return std::find(among.begin(), among.end(), part) != among.end();
    });
  }

  static const condition::Condition* when_of(const Route& route) { return &route.when; }
  static const condition::Condition* when_of(const AccessRule& rule) {
    return rule.when ? &*rule.when : nullptr;
  }
  static bool looks_at_as_much(const Route& earlier, const Route& later) {
    return (earlier.access || !later.access) && (earlier.accounting || !later.accounting);
  }
  static bool looks_at_as_much(const AccessRule& earlier, const AccessRule& later) {
    return earlier.proof == later.proof;
  }

  template <class Rule>
  void shadowed_among(const std::vector<Rule>& rules, const std::vector<Place>& places,
                      std::string_view kind) {
    for (std::size_t later = 1; later < rules.size(); ++later) {
      for (std::size_t earlier = 0; earlier < later; ++earlier) {
        if (!looks_at_as_much(rules[earlier], rules[later]) ||
            !covers(when_of(rules[earlier]), when_of(rules[later])))
          continue;
        never(places[later], kind, rules[later].name, rules[earlier].name);
        break;
      }
    }
  }

  void shadowed() {
    shadowed_among(plan_.routes, places_.routes, "route");
    shadowed_among(plan_.access_rules, places_.access_rules, "access rule");
  }

  void never(const Place& place, std::string_view kind, const std::string& name, const std::string& earlier) {
    report_(place, {"shadowed",
                    fmt::format("{} '{}' is never reached: '{}' before it matches the same requests", kind,
                                name, earlier),
                    "another order, or another condition"});
  }

  static bool asks_about_sessions_alone(const Client& client) {
    return !client.listeners.empty() && std::all_of(client.listeners.begin(), client.listeners.end(),
                                                    [](const auto& one) { return one == "authorization"; });
  }

  // Whoever may ask us and is asked by us can send a request back.
  void circles() {
    for (std::size_t i = 0; i < plan_.groups.size(); ++i) {
      for (const Server& server : plan_.groups[i].servers) {
        const Client* client = plan_.client_at(server.address);
        if (client == nullptr || client->address.length < server.address.bits()) continue;
        if (asks_about_sessions_alone(*client)) continue;
        report_(
            places_.groups[i],
            {"circle",
             fmt::format("server '{}' of group '{}' has the address of client '{}': a request can go round",
                         server.name, plan_.groups[i].name, client->name),
             "routes that tell what comes from there from what goes there, or other addresses"});
      }
    }
  }

  // On a command line such a name needs quotes, and in a report it looks like two.
  void spaces() {
    const auto all = [&](std::string_view kind, const auto& objects, const std::vector<Place>& places) {
      for (std::size_t i = 0; i < objects.size(); ++i) {
        if (objects[i].name.find(' ') == std::string::npos) continue;
        report_(places[i],
                {"space-in-name", fmt::format("{} '{}' has a space in its name", kind, objects[i].name),
                 "'-' instead; what people call it can stand in a note"});
      }
    };
    all("client", plan_.clients, places_.clients);
    all("group", plan_.groups, places_.groups);
  }

  void empty_passwords() {
    const auto nothing = identity::nt_hash({});
    for (std::size_t i = 0; i < plan_.users.size(); ++i) {
      const identity::StoredPassword& password = plan_.users[i].password;
      const bool empty = password.form() == identity::StoredPassword::Form::nt && nothing &&
                         equal_in_constant_time(password.kept(), *nothing);
      if (empty)
        report_(places_.users[i],
                {"empty-password", fmt::format("the password of user '{}' is empty", plan_.users[i].name),
                 "jembatan user set NAME --password"});
    }
  }

  // RFC 2869 §5.16: not below 60, and it should not be below 600.
  void interims() {
    const auto all = [&](std::string_view kind, const auto& objects, const std::vector<Place>& places) {
      for (std::size_t i = 0; i < objects.size(); ++i) {
        for (const Assignment& one : objects[i].reply) {
          if (one.path != dictionary::Path{85} || one.fixed.size() != 6) continue;
          const std::uint32_t seconds = load32(one.fixed.data() + 2);
          if (seconds >= 60) continue;
          report_(places[i], {"busy-interim",
                              fmt::format("{} '{}' asks for a record every {} s (Acct-Interim-Interval)",
                                          kind, objects[i].name, seconds),
                              "60 and more, better 600 (RFC 2869 §5.16)"});
        }
      }
    };
    all("access rule", plan_.access_rules, places_.access_rules);
    all("user", plan_.users, places_.users);
  }

  void dates(WallTime now) {
    for (std::size_t i = 0; i < plan_.users.size(); ++i) {
      const User& user = plan_.users[i];
      if (user.valid_until && *user.valid_until <= now) {
        report_(places_.users[i],
                {"expired",
                 fmt::format("user '{}' has expired ({})", user.name, jembatan::text_of(*user.valid_until)),
                 "another valid_until, or take the user away"});
      }
    }
    for (std::size_t i = 0; i < plan_.clients.size(); ++i) {
      const Client& client = plan_.clients[i];
      if (client.old_secret && client.old_secret_until && *client.old_secret_until <= now) {
        report_(places_.clients[i], {"expired",
                                     fmt::format("the old secret of client '{}' has expired ({})",
                                                 client.name, jembatan::text_of(*client.old_secret_until)),
                                     "jembatan client secret finish"});
      }
    }
  }

  void user_groups() {
    std::set<std::string> wanted;
    for (const AccessRule& rule : plan_.access_rules) {
      if (!rule.when) continue;
      for (std::string& group : rule.when->groups()) wanted.insert(std::move(group));
    }
    std::set<std::string> had;
    std::set<std::string> told;
    for (std::size_t i = 0; i < plan_.users.size(); ++i) {
      for (const std::string& group : plan_.users[i].groups) {
        had.insert(group);
        if (wanted.contains(group) || plan_.access_rules.empty() || !told.insert(group).second) continue;
        report_(places_.users[i], {"unused-user-group",
                                   fmt::format("user '{}' is in group '{}', which no access rule asks for{}",
                                               plan_.users[i].name, group, nearest_text(group, wanted)),
                                   "the name that the rules have, or a rule that asks for it"});
      }
    }
    if (!plan_.directories.empty()) return;  // whoever it is may be there
    for (std::size_t i = 0; i < plan_.access_rules.size(); ++i) {
      if (!plan_.access_rules[i].when) continue;
      for (const std::string& group : plan_.access_rules[i].when->groups()) {
        if (had.contains(group) || !told.insert(group).second) continue;
        report_(places_.access_rules[i],
                {"empty-user-group",
                 fmt::format("access rule '{}' asks for group '{}', which no user is in{}",
                             plan_.access_rules[i].name, group, nearest_text(group, had)),
                 "the name that the users have"});
      }
    }
  }

  // A rule that asks for a group, and accepts no method that a password of that group can prove.
  void methods() {
    for (const AccessRule& rule : plan_.access_rules) {
      if (!rule.when || !rule.permit || rule.methods.empty()) continue;
      const std::vector<std::string> wanted = rule.when->groups();
      for (std::size_t i = 0; i < plan_.users.size(); ++i) {
        const User& user = plan_.users[i];
        const auto is_wanted = [&](const std::string& group) {
          return std::find(wanted.begin(), wanted.end(), group) != wanted.end();
        };
        const auto served = [&](const std::string& method) {
          return identity::can_prove(user.password.form(), method);
        };
        if (std::none_of(user.groups.begin(), user.groups.end(), is_wanted) ||
            std::any_of(rule.methods.begin(), rule.methods.end(), served))
          continue;
        const auto can = identity::methods_of(user.password.form());
        report_(places_.users[i],
                {"method-mismatch",
                 fmt::format(
                     "what is kept of the password of user '{}' proves {}, and access rule '{}' accepts {}",
                     user.name, join({can.begin(), can.end()}, ", "), rule.name, join(rule.methods, ", ")),
                 "a password that is kept in another form, or another method in the rule"});
      }
    }
  }

  static std::string nearest_text(const std::string& name, const std::set<std::string>& names) {
    const auto near = nearest(name, {names.begin(), names.end()});
    return near ? fmt::format("; did you mean '{}'?", *near) : "";
  }

  const Plan& plan_;
  const Places& places_;
  std::optional<WallTime> now_;
  const std::function<void(const Place&, const Advice&)>& report_;
};

}  // namespace

void advise(const Plan& plan, const Places& places, std::optional<WallTime> now,
            const std::function<void(const Place&, const Advice&)>& report) {
  Adviser(plan, places, now, report).run();
  advise_of_directories(plan, places, report);
  advise_of_factors(plan, places, report);
}

}  // namespace jembatan::plan
