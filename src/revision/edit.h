#pragma once
// Changes of single objects, as commands ask for them.
#include <optional>

#include "revision/objects.h"

namespace jembatan::revision {

struct FieldEdit {
  std::string path;                      ///< "address", "labels.place", "server.reef-1.weight"
  std::optional<document::Value> value;  ///< empty: the field is taken away
};

enum class Do : std::uint8_t { add, set, put, remove, move };

struct Edit {
  Do what = Do::set;  ///< put: add it, or set it if it is there
  std::string kind;
  std::string name;
  std::vector<FieldEdit> fields = {};  ///< of a dictionary: "text"
  std::string before = {};             ///< Do::move, and of what is made: the rule to stand before
  std::string after = {};              ///< the same: the rule to stand behind
  bool first = false;                  ///< the same: to the front; neither: to the end
  std::string place = {};  ///< what problems call it, like "clients.csv row 12"; empty: its kind and name
};

/// Makes the change.
///   errors  Errc::not_found: no such object (with the nearest name) or kind; Errc::conflict: it is there
///           already; Errc::malformed: a path leads into something that is no table
Status apply(const Edit& edit, Objects& objects);

/// The value at a path of an object's table: "server.reef-1.secret"; null if there is none.
const document::Value* find_field(const document::Value& table, const std::string& path);

/// "client 'kerapu-dek-2' not found; nearest: 'kerapu-deck-2'"
Error not_found(std::string_view kind, std::string_view name, const Objects& objects);

}  // namespace jembatan::revision
