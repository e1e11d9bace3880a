#include "dictionary/catalogue.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.h"

namespace jembatan::dictionary {
namespace {

struct TypeName {
  DataType type;
  std::string_view name;
};
constexpr std::array<TypeName, 13> kTypes{{{DataType::integer, "integer"},
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
                                           {DataType::vsa, "vsa"}}};

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

Status Catalogue::add(Definition definition) {
  const std::string key = lower(definition.name);
  if (const auto* taken = by_number_[definition.number]) {
    return fail(Errc::conflict, fmt::format("number {} of '{}' belongs to '{}' ({}) already",
                                            definition.number, definition.name, taken->name, taken->source));
  }
  if (by_name_.contains(key)) {
    return fail(Errc::conflict, fmt::format("name '{}' belongs to attribute {} ({}) already", definition.name,
                                            by_name_[key]->number, by_name_[key]->source));
  }
  all_.push_back(std::make_unique<Definition>(std::move(definition)));
  by_number_[all_.back()->number] = all_.back().get();
  by_name_[key] = all_.back().get();
  return {};
}

Definition* Catalogue::to_extend(std::string_view name) {
  const auto found = by_name_.find(lower(name));
  return found == by_name_.end() ? nullptr : found->second;
}

const Definition* Catalogue::numbered(std::uint8_t number) const {
  return by_number_[number];
}

const Definition* Catalogue::named(std::string_view name) const {
  const auto found = by_name_.find(lower(name));
  return found == by_name_.end() ? nullptr : found->second;
}

std::vector<std::string> Catalogue::names() const {
  std::vector<std::string> out;
  for (const auto& definition : all_) out.push_back(definition->name);
  return out;
}

}  // namespace jembatan::dictionary
