#include "dictionary/catalogue.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "base/text.h"

namespace jembatan::dictionary {
namespace {

struct TypeName {
  DataType type;
  std::string_view name;
};
constexpr std::array<TypeName, 17> kTypes{{{DataType::integer, "integer"},
                                           {DataType::enumeration, "enum"},
                                           {DataType::time, "time"},
                                           {DataType::text, "text"},
                                           {DataType::string, "string"},
                                           {DataType::concat, "concat"},
                                           {DataType::ifid, "ifid"},
                                           {DataType::ipv4addr, "ipv4addr"},
                                           {DataType::ipv6addr, "ipv6addr"},
                                           {DataType::ipv6prefix, "ipv6prefix"},
                                           {DataType::ipv4prefix, "ipv4prefix"},
                                           {DataType::integer64, "integer64"},
                                           {DataType::tlv, "tlv"},
                                           {DataType::vsa, "vsa"},
                                           {DataType::extended, "extended"},
                                           {DataType::long_extended, "long-extended"},
                                           {DataType::evs, "evs"}}};

}  // namespace

std::string_view name_of(DataType type) {
  for (const TypeName& known : kTypes) {
    if (known.type == type) return known.name;
  }
  return "string";
}

std::optional<DataType> data_type_named(std::string_view name) {
  for (const TypeName& known : kTypes) {
    if (known.name == name) return known.type;
  }
  return std::nullopt;
}

const std::vector<std::string>& data_type_names() {
  static const std::vector<std::string> names = [] {
    std::vector<std::string> out;
    for (const TypeName& known : kTypes) out.emplace_back(known.name);
    return out;
  }();
  return names;
}

const NamedValue* Definition::value_numbered(std::uint32_t wanted) const {
  const auto found =
      std::find_if(values.begin(), values.end(), [&](const auto& v) { return v.number == wanted; });
  return found == values.end() ? nullptr : &*found;
}

const NamedValue* Definition::value_named(std::string_view wanted) const {
  const std::string plain = lower(wanted);
  const auto found =
      std::find_if(values.begin(), values.end(), [&](const auto& v) { return lower(v.name) == plain; });
  return found == values.end() ? nullptr : &*found;
}

std::string_view name_of(Column column) {
  static constexpr std::array<std::string_view, kColumns> kNames{
      "Access-Request", "Access-Accept", "Access-Reject", "Access-Challenge", "Accounting-Request"};
  return kNames[static_cast<std::size_t>(column)];
}

std::string_view name_of(Presence presence) {
  static constexpr std::array<std::string_view, 5> kNames{"?", "0", "0-1", "0+", "1"};
  return kNames[static_cast<std::size_t>(presence)];
}

std::string dotted(const Path& path) {
  return fmt::format("{}", fmt::join(path, "."));
}

std::optional<Path> parse_path(std::string_view text) {
  Path out;
  for (const std::string_view part : split(text, '.')) {
    std::uint32_t number = 0;
    const auto [end, problem] = std::from_chars(part.data(), part.data() + part.size(), number);
    if (part.empty() || problem != std::errc{} || end != part.data() + part.size()) return std::nullopt;
    out.push_back(number);
  }
  return out;
}

Catalogue::Catalogue(const Catalogue& other) : vendors_(other.vendors_) {
  for (const auto& [path, definition] : other.all_) (void)add(*definition);
}

Status Catalogue::add(Definition definition) {
  const std::string key = lower(definition.name);
  if (const Definition* taken = at(definition.path)) {
    return fail(Errc::conflict,
                fmt::format("number {} of '{}' belongs to '{}' ({}) already", dotted(definition.path),
                            definition.name, taken->name, taken->place));
  }
  if (const Definition* taken = named(definition.name)) {
    return fail(Errc::conflict, fmt::format("name '{}' belongs to attribute {} ({}) already", definition.name,
                                            dotted(taken->path), taken->place));
  }
  auto kept = std::make_unique<Definition>(std::move(definition));
  if (kept->path.size() == 1) by_number_[kept->path[0]] = kept.get();
  by_name_[key] = kept.get();
  const Path path = kept->path;
  all_[path] = std::move(kept);
  return {};
}

Status Catalogue::add(Vendor vendor) {
  const auto found = vendors_.find(vendor.number);
  if (found != vendors_.end()) {
    return fail(Errc::conflict, fmt::format("vendor {} is '{}' ({}) already", vendor.number,
                                            found->second.name, found->second.place));
  }
  vendors_[vendor.number] = std::move(vendor);
  return {};
}

Definition* Catalogue::to_extend(std::string_view name) {
  const auto found = by_name_.find(lower(name));
  return found == by_name_.end() ? nullptr : found->second;
}

const Definition* Catalogue::at(std::span<const std::uint32_t> path) const {
  const auto found = all_.find(path);
  return found == all_.end() ? nullptr : found->second.get();
}

const Definition* Catalogue::named(std::string_view name) const {
  const auto found = by_name_.find(lower(name));
  return found == by_name_.end() ? nullptr : found->second;
}

const Vendor* Catalogue::vendor(std::uint32_t number) const {
  const auto found = vendors_.find(number);
  return found == vendors_.end() ? nullptr : &found->second;
}

std::vector<std::string> Catalogue::names() const {
  std::vector<std::string> out;
  for (const auto& [path, definition] : all_) out.push_back(definition->name);
  return out;
}

std::vector<const Definition*> Catalogue::all() const {
  std::vector<const Definition*> out;
  for (const auto& [path, definition] : all_) out.push_back(definition.get());
  return out;
}

}  // namespace jembatan::dictionary
