#pragma once
// What differs between two plans, in objects and fields.
#include "revision/objects.h"

namespace jembatan::revision {

struct FieldChange {
  std::string field;   ///< "address", "labels.place", "server.reef-1.weight"
  std::string before;  ///< as TOML; empty: it was not there. Of a secret, never its value
  std::string after;   ///< as TOML; empty: it is not there any more
};

/// `renumbered`: a rule's rank alone; stored, but no difference to anybody.
enum class What : std::uint8_t { added, changed, removed, moved, renumbered };
std::string_view name_of(What what);

struct ObjectChange {
  What what{};
  std::string kind;
  std::string name;
  std::string stored;  ///< the name it is stored under so far; realms and users may differ in letter case
  std::vector<FieldChange> fields;  ///< What::changed, and of a rule that was changed and moved
  std::string place;                ///< What::moved: "before 'night shift'", "last"
  const Object* after = nullptr;  ///< as it is to be stored; null if it was removed. Lives as long as `after`
};

/// Every difference, in the canonical order. Gives the rules of `after` ranks of their own, of which as many
/// as possible stay as they were.
std::vector<ObjectChange> differences(const Objects& before, Objects& after);

}  // namespace jembatan::revision
