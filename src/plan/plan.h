#pragma once
#include <memory>

#include "base/text_hash.h"
#include "condition/rule_index.h"
#include "dictionary/catalogue.h"
#include "plan/client_table.h"
#include "plan/directory.h"
#include "plan/factor.h"
#include "plan/model.h"
#include "plan/realm_table.h"

namespace jembatan::plan {

/// A whole plan with its lookups. Immutable once read; shared by all threads.
struct Plan {
  std::vector<Client> clients;
  std::vector<User> users;
  std::vector<Group> groups;
  std::vector<Group> devices;  ///< each a client that takes Disconnect- and CoA-Requests, as its own server
  std::vector<Directory> directories;
  std::vector<Factor> factors;
  std::vector<Enrolment> enrolments;
  std::vector<Realm> realms;
  RealmDefault realm_default;
  SignIn sign_in;
  std::vector<Route> routes;
  std::vector<ReplySet> reply_sets;
  std::vector<Edit> edits;
  std::array<bool, kEditPoints> has_edits{};  ///< by EditPoint
  bool asks_sessions = false;                 ///< an access rule looks at a user's other sessions
  std::vector<AccessRule> access_rules;       ///< none at all: who proves a user's password may come in
  dictionary::CataloguePtr catalogue =
      dictionary::standard_catalogue();  ///< with the plan's own dictionaries

  condition::RuleIndex route_index;                  ///< of routes
  condition::RuleIndex access_index;                 ///< of access_rules
  ClientTable client_table;                          ///< → clients
  ByText<std::size_t> client_names;                  ///< → clients
  RealmTable realm_table;                            ///< → realms
  ByText<std::size_t> user_table;                    ///< comparable name → users
  ByText<std::vector<std::size_t>> enrolment_table;  ///< comparable name → enrolments

  /// The client that an address belongs to: longest prefix wins. Switched-off clients count, too.
  const Client* client_at(const IpAddress& address) const;
  const Client* client_named(std::string_view name) const;
  const User* user_named(std::string_view name) const;
  const Realm* realm_named(std::string_view realm) const;
  /// The tokens that a user has for a factor, as an index into `factors`.
  std::vector<identity::Token> tokens_of(std::string_view user, std::size_t factor) const;
  /// Whether requests are sent to a group as well as to where they belong.
  bool is_mirror(std::size_t group) const;
  /// One of the plan's passwords that take long to compare; null if there is none.
  const identity::StoredPassword* slow_password() const {
    return slow_user ? &users[*slow_user].password : nullptr;
  }
  std::optional<std::size_t> slow_user;  ///< whose password it is
  std::string vlan_giver;  ///< the first that gives one: "access rule 'crew on deck'"; empty: nothing does
};

/// errors  Errc::not_found, with the nearest name
Result<const Client*> find_client(const Plan& plan, std::string_view name);

/// The first object that gives a VLAN, in words; empty: none does.
std::string first_vlan_giver(const Plan& plan);

using PlanPtr = std::shared_ptr<const Plan>;

}  // namespace jembatan::plan
