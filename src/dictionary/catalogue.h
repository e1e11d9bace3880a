#pragma once
// The catalogue of attributes: what a number is called, which data type its value has, what its numbers mean.
#include <memory>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/result.h"

namespace jembatan::dictionary {

/// Data types of RFC 8044 §3.
enum class DataType : std::uint8_t {
  integer,
  enumeration,
  time,
  text,
  string,
  concat,
  ifid,
  ipv4addr,
  ipv6addr,
  ipv6prefix,
  ipv4prefix,
  integer64,
  vsa,
};
std::string_view name_of(DataType type);  ///< as RFC 8044 writes it
std::optional<DataType> data_type_named(std::string_view name);
const std::vector<std::string>& data_type_names();

/// How a value is hidden under the shared secret.
enum class Hiding : std::uint8_t {
  none,
  user_password,  ///< RFC 2865 §5.2
  salted,         ///< RFC 2868 §3.5
};

struct NamedValue {
  std::string name;
  std::uint32_t number = 0;
};

struct Definition {
  std::string name;
  std::uint8_t number = 0;
  DataType type = DataType::string;
  bool tagged = false;  ///< a tag octet 0x01..0x1F may stand in front (RFC 2868 §3)
  Hiding hiding = Hiding::none;
  std::vector<NamedValue> values;
  std::string source;  ///< "RFC 2865"

  const NamedValue* value_numbered(std::uint32_t wanted) const;
  const NamedValue* value_named(std::string_view wanted) const;  ///< letter case does not matter
};

/// Immutable once built; any thread may look things up.
class Catalogue {
 public:
  /// Adds a definition.
  ///   errors  Errc::conflict: its number or its name is taken; the text names both
  Status add(Definition definition);
  /// Adds named values to an attribute that exists.
  Definition* to_extend(std::string_view name);

  const Definition* numbered(std::uint8_t number) const;
  const Definition* named(std::string_view name) const;  ///< letter case does not matter
  std::vector<std::string> names() const;

 private:
  std::vector<std::unique_ptr<Definition>> all_;
  const Definition* by_number_[256]{};
  std::unordered_map<std::string, Definition*> by_name_;  // in lower case
};

/// The catalogue that comes with the program, from dictionaries/*.toml; read once.
const Catalogue& standard();

}  // namespace jembatan::dictionary
