#pragma once
// A plan as what is stored: one canonical text for each object. Equal plans have equal objects.
#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "document/problems.h"
#include "plan/read.h"

namespace jembatan::revision {

struct Kind {
  std::string_view name;  ///< as commands and files write it: "client"
  std::string_view file;  ///< where its objects stand in an exported folder
  bool ordered = false;   ///< rules: their order counts
  bool single = false;    ///< one object without a name
  bool any_case = false;  ///< letter case in names does not matter
};
/// Every kind of object, in the order of a canonical plan.
const std::vector<Kind>& kinds();
const Kind* kind_named(std::string_view name);
inline constexpr std::string_view kDictionary = "dictionary";

/// One section of a plan, or one of its dictionary files.
struct Object {
  std::string kind;
  std::string name;
  std::int64_t rank = 0;  ///< rules: their order, from the lowest
  std::string text;       ///< its TOML in canonical form, secrets as { kept = "MARK" }
};

/// The objects of one plan, found by kind and name.
class Objects {
 public:
  const Object* find(std::string_view kind, std::string_view name) const;
  void put(Object object);
  bool remove(std::string_view kind, std::string_view name);
  std::size_t size() const { return by_key_.size(); }

  /// All, or those of one kind: rules by rank, others by name.
  std::vector<const Object*> list(std::string_view kind = {}) const;
  std::vector<std::string> names(std::string_view kind) const;

 private:
  using Key = std::pair<std::size_t, std::string>;  // place of the kind, comparable name
  static Key key_of(std::string_view kind, std::string_view name);
  std::map<Key, Object> by_key_;
};

/// The object that a table makes: keys in the order of the reference, labels by name.
Object object_of(std::string_view kind, document::Value table);

/// True if a dictionary may be called that: it becomes a file's name. Letters, digits, '.', '-' and '_', at
/// most 100 of them, not beginning with '.'.
bool is_dictionary_name(std::string_view name);

/// The table that an object was made of.
document::Value table_of(const Object& object);

/// Rules are numbered with room between them, so that one can move without the others.
inline constexpr std::int64_t kRankStep = 1 << 20;

/// The objects as they are read: in their order, each by itself and called by its kind and name ("access
/// 'night shift'"), so that a mistake is shown where it was made, and what is in force has one order.
///   places  other names of some of them
std::vector<plan::SourceFile> sources_of(const Objects& objects,
                                         const std::map<const Object*, std::string>& places = {});

/// The objects as the files of a folder: "clients.toml", …, "dictionaries/strait.toml".
std::vector<plan::SourceFile> files_of(const Objects& objects);

}  // namespace jembatan::revision
