#pragma once
// Who somebody is, by the words of a directory.
#include <set>

#include "directory/connection.h"
#include "identity/password.h"

namespace jembatan::directory {

/// Whom to look for.
struct Wanted {
  std::string user;  ///< without the realm
  std::string realm;
  std::string name;  ///< with it
};

/// The entry of somebody.
///   errors  those of Connection::search
Result<std::vector<Entry>> find_entries(Connection& connection, const plan::Directory& directory,
                                        const Wanted& wanted);

/// The groups that somebody is in, by name; those that those are in, as far as the directory says `nested`.
///   errors  those of Connection::search
Result<std::set<std::string>> find_groups(Connection& connection, const plan::Directory& directory,
                                          const Wanted& wanted, const Entry& entry);

/// What the entry itself says of the account.
decide::Person::Account account_in(const Entry& entry, WallTime now);

/// What the entry has of the password; empty if it shows none.
identity::StoredPassword stored_in(const Entry& entry, const plan::Directory& directory);

/// Who somebody is: one entry, with its groups and attributes; no password is asked for.
///   errors  those of Connection::search
Result<decide::Person> find_person(Connection& connection, const plan::Directory& directory,
                                   const Wanted& wanted, WallTime now, identity::StoredPassword* stored);

/// The first part's value of a distinguished name: "crew" of "cn=crew,ou=groups,dc=reef,dc=example"; any
/// other text as it is.
std::string short_name(const std::string& name);

}  // namespace jembatan::directory
