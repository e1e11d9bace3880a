#pragma once
// The catalogue of attributes: what a number is called, which data type its value has, what its numbers mean.
#include <algorithm>
#include <array>
#include <map>
#include <memory>
#include <optional>
#include <span>
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
  tlv,
  vsa,
  extended,
  long_extended,
  evs,
};
std::string_view name_of(DataType type);  ///< as RFC 8044 writes it
std::optional<DataType> data_type_named(std::string_view name);
const std::vector<std::string>& data_type_names();

/// How a value is hidden under the shared secret.
enum class Hiding : std::uint8_t {
  none,
  user_password,  ///< RFC 2865 §5.2
  salted,         ///< RFC 2868 §3.5, RFC 2548 §2.4.2
};

/// The packets that the tables of the RFCs have columns for (RFC 2865 §5.44).
enum class Column : std::uint8_t { request, accept, reject, challenge, accounting };
inline constexpr std::size_t kColumns = 5;
std::string_view name_of(Column column);  ///< "Access-Request", …

/// How often an attribute may stand in one kind of packet.
enum class Presence : std::uint8_t { unknown, never, at_most_once, any_number, exactly_once };
std::string_view name_of(Presence presence);  ///< "0", "0-1", "0+", "1"; "?" if no RFC says

/// Numbers from the outside in: {1}, {241, 1}, {26, 32473, 5}, {26, 32473, 5, 2} for an attribute inside
/// another.
using Path = std::vector<std::uint32_t>;
std::string dotted(const Path& path);  ///< RFC 6929 §2.8: "26.32473.5"
std::optional<Path> parse_path(std::string_view text);

struct NamedValue {
  std::string name;
  std::uint32_t number = 0;
};

struct Definition {
  std::string name;
  Path path;
  DataType type = DataType::string;
  bool tagged = false;  ///< a tag octet 0x01..0x1F may stand in front (RFC 2868 §3)
  Hiding hiding = Hiding::none;
  std::vector<NamedValue> values;
  std::array<Presence, kColumns> presence{};
  std::string source;  ///< "RFC 2865"
  std::string place;   ///< "rfc2865.toml:5"

  const NamedValue* value_numbered(std::uint32_t wanted) const;
  const NamedValue* value_named(std::string_view wanted) const;  ///< letter case does not matter
};

/// How a vendor writes its attributes inside Vendor-Specific (RFC 2865 §5.26 recommends 1 and 1).
struct Vendor {
  std::uint32_t number = 0;  ///< private enterprise number
  std::string name;
  std::uint8_t type_octets = 1;    ///< 1, 2 or 4
  std::uint8_t length_octets = 1;  ///< 0 (one attribute, to the end), 1 or 2
  std::string place;
};

/// Immutable once built; any thread may look things up. Copies are deep.
class Catalogue {
 public:
  Catalogue() = default;
  Catalogue(const Catalogue& other);
  Catalogue(Catalogue&&) noexcept = default;
  Catalogue& operator=(Catalogue&&) noexcept = default;

  /// Adds a definition.
  ///   errors  Errc::conflict: its number or its name is taken; the text has both places
  Status add(Definition definition);
  Status add(Vendor vendor);
  /// The definition, to add named values to it.
  Definition* to_extend(std::string_view name);

  const Definition* numbered(std::uint8_t number) const { return by_number_[number]; }
  const Definition* at(std::span<const std::uint32_t> path) const;
  const Definition* at(std::initializer_list<std::uint32_t> path) const {
    return at(std::span(path.begin(), path.size()));
  }
  const Definition* named(std::string_view name) const;  ///< letter case does not matter
  const Vendor* vendor(std::uint32_t number) const;
  std::vector<std::string> names() const;
  /// All definitions, in the order of their numbers.
  std::vector<const Definition*> all() const;

 private:
  // So that looking up makes no Path.
  struct ByNumbers {
    using is_transparent = void;
    bool operator()(std::span<const std::uint32_t> a, std::span<const std::uint32_t> b) const {
      return std::lexicographical_compare(a.begin(), a.end(), b.begin(), b.end());
    }
  };
  std::map<Path, std::unique_ptr<Definition>, ByNumbers> all_;
  std::array<const Definition*, 256> by_number_{};
  std::unordered_map<std::string, Definition*> by_name_;  // in lower case
  std::map<std::uint32_t, Vendor> vendors_;
};

using CataloguePtr = std::shared_ptr<const Catalogue>;

/// The catalogue that comes with the program, from dictionaries/*.toml; read once.
const CataloguePtr& standard_catalogue();
inline const Catalogue& standard() {
  return *standard_catalogue();
}

}  // namespace jembatan::dictionary
