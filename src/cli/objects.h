#pragma once
// Commands that are the same for each kind of object: list, show, add, set, remove.
#include <nlohmann/json_fwd.hpp>

#include "cli/change.h"

namespace jembatan::cli {

/// How a kind of object is shown in a list.
struct Listing {
  std::string kind;
  std::vector<std::string> heading;
  std::vector<std::string> (*row)(const nlohmann::json& object);
  std::string name_example;  ///< for the commands' examples
  std::string set_example;   ///< "waits=10s"
  std::string (*note)(const nlohmann::json& object) =
      nullptr;  ///< a line below one that is shown; may be empty

  /// The kind as commands write it: "reply-set".
  std::string noun() const;
  /// In sentences: "reply set", "access rule".
  std::string one() const;
};

Command list_command(const Listing& listing, std::vector<Option> filters = {});
Command show_command(const Listing& listing);
Command add_command(const Listing& listing);
Command set_command(const Listing& listing);
Command remove_command(const Listing& listing);
Command rename_command(const Listing& listing);
/// --before, --after, --first, --last: where a rule is to stand.
std::vector<Option> place_options();
/// Adds to a change what they say; gives whether one was there.
///   errors  Errc::malformed: more than one
Result<bool> add_place(const Arguments& arguments, nlohmann::json& change);
/// "enable" or "disable": sets the field `enabled`.
Command switch_command(const Listing& listing, const std::string& verb, const std::string& summary);

/// A section that a plan has once.
struct Single {
  std::string kind;         ///< "realm_default"
  std::string noun;         ///< "realm default"
  std::string what;         ///< it says
  std::string set_example;  ///< KEY=VALUE words
  std::string keys;         ///< "unknown=…, missing=…"
};
/// Its commands show and set.
std::vector<Command> single_commands(const Single& single);

/// The body of a change of one object.
nlohmann::json one_change(const std::string& what, const std::string& kind, const std::string& name,
                          nlohmann::json fields);

/// Reads KEY=VALUE words from the second on into `fields`.
Status read_fields(const std::vector<std::string>& words, nlohmann::json& fields);

/// The text under a key, or a dash; cut to so many characters.
std::string cell(const nlohmann::json& object, const std::string& key, std::size_t most = 40);
/// The texts of an array, with commas; a dash if there is none.
std::string list_text(const nlohmann::json& object, const std::string& key);
/// A table as "key=value key=value", or a dash.
std::string pairs_text(const nlohmann::json& table);

}  // namespace jembatan::cli
