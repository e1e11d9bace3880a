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

/// Takes what the entry has of the password out of it; empty if it shows none.
identity::StoredPassword take_stored(Entry& entry, const plan::Directory& directory);

/// The filter for somebody, as it is sent.
std::string filter_for(const plan::Directory& directory, const Wanted& wanted);

/// Somebody to look for, and what is known of him.
struct Question {
  const plan::Directory& directory;
  Wanted wanted;
  WallTime now;
  const decide::Person* known = nullptr;  ///< whose groups are remembered; null: nobody's
};
struct Found {
  decide::Person person;
  identity::StoredPassword stored;  ///< if the directory gives it out
};
/// Who somebody is: one entry, with its groups and attributes; no password is asked for.
///   errors  those of Connection::search
Result<Found> find_person(Connection& connection, const Question& question);

/// The first part's value of a distinguished name: "crew" of "cn=crew,ou=groups,dc=reef,dc=example"; any
/// other text as it is.
std::string short_name(const std::string& name);

}  // namespace jembatan::directory
