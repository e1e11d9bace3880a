#include "condition/values.h"

#include <fmt/format.h>

#include "base/text.h"
#include "dictionary/value_text.h"

namespace jembatan::condition {

using dictionary::DataType;
using dictionary::Definition;

namespace {

struct TextFact {
  std::string_view name;
  Fact fact;
  std::string_view Facts::*value;
};
constexpr TextFact kTextFacts[] = {
    {"user", Fact::user, &Facts::user},       {"realm", Fact::realm, &Facts::realm},
    {"client", Fact::client, &Facts::client}, {"listener", Fact::listener, &Facts::listener},
    {"method", Fact::method, &Facts::method}, {"code", Fact::code, &Facts::code},
    {"route", Fact::route, &Facts::route},    {"group", Fact::group, &Facts::group},
    {"server", Fact::server, &Facts::server},
};

constexpr std::size_t kMostShown = 5;  // values of one attribute

const TextFact* text_fact_of(Fact fact) {
  for (const TextFact& row : kTextFacts) {
    if (row.fact == fact) return &row;
  }
  return nullptr;
}

}  // namespace

std::optional<Fact> fact_named(std::string_view name) {
  for (const TextFact& row : kTextFacts) {
    if (row.name == name) return row.fact;
  }
  return std::nullopt;
}

std::vector<std::string> fact_names() {
  std::vector<std::string> out;
  for (const TextFact& row : kTextFacts) out.emplace_back(row.name);
  return out;
}

Shape shape_of(const Definition& attribute) {
  switch (attribute.type) {
    case DataType::integer:
    case DataType::enumeration:
    case DataType::time:
    case DataType::integer64:
      return Shape::number;
    case DataType::ipv4addr:
    case DataType::ipv6addr:
      return Shape::address;
    default:
      return Shape::octets;
  }
}

bool is_reachable(const Definition& attribute) {
  const bool holds_others = attribute.type == DataType::tlv || attribute.type == DataType::vsa ||
                            attribute.type == DataType::extended || attribute.type == DataType::long_extended;
  return !holds_others && attribute.hiding == dictionary::Hiding::none &&
         !dictionary::is_long_extended(attribute.path.front());
}

std::optional<std::uint64_t> number_in(const Definition& attribute, OctetView value) {
  if (attribute.type == DataType::integer64)
    return value.size() == 8 ? std::optional(load64(value.data())) : std::nullopt;
  if (value.size() == 3) return std::uint64_t{value[0]} << 16U | load16(value.data() + 1);  // behind a tag
  if (value.size() != 4) return std::nullopt;
  return load32(value.data());
}

std::optional<IpAddress> address_in(OctetView value) {
  if (value.size() == 4) return IpAddress::from_v4(value.data());
  if (value.size() == 16) return IpAddress::from_v6(value.data());
  return std::nullopt;
}

std::optional<KeyedFact> keyed_fact_named(std::string_view name) {
  static constexpr std::pair<std::string_view, Fact> kBegin[] = {{"client.label.", Fact::label},
                                                                 {"directory.", Fact::directory}};
  for (const auto& [begin, fact] : kBegin)
    if (name.starts_with(begin)) return KeyedFact{fact, std::string(name.substr(begin.size()))};
  return std::nullopt;
}

bool is_keyed(Fact fact) {
  return fact == Fact::label || fact == Fact::directory;
}

std::optional<std::string_view> keyed_fact(Fact fact, const std::string& key, const Facts& facts) {
  const auto* all = fact == Fact::label ? facts.labels : facts.directory;
  if (all == nullptr) return std::nullopt;
  const auto found = all->find(key);
  return found == all->end() ? std::nullopt : std::optional<std::string_view>(found->second);
}

std::string_view text_fact(Fact fact, const Facts& facts) {
  const TextFact* row = text_fact_of(fact);
  return row == nullptr ? std::string_view{} : facts.*(row->value);
}

namespace detail {

OctetView without_tag(const Definition& attribute, OctetView value) {
  if (!attribute.tagged || value.empty()) return value;
  if (dictionary::tag_in_number(attribute)) return value.subspan(1);
  return value[0] <= dictionary::kLastTag ? value.subspan(1) : value;
}

std::optional<OctetView> below_extended(const dictionary::Path& path, OctetView value) {
  if (!dictionary::is_extended(path.front())) return value;
  if (value.empty() || value[0] != path[1]) return std::nullopt;
  if (!dictionary::is_evs(path)) return value.subspan(1);
  const bool same = value.size() > 5 && load32(value.data() + 1) == path[2] && value[5] == path[3];
  return same ? std::optional(value.subspan(6)) : std::nullopt;
}

std::optional<std::pair<std::uint32_t, OctetView>> next_of(const dictionary::Vendor& vendor,
                                                           OctetView& octets) {
  const std::size_t head = std::size_t{vendor.type_octets} + vendor.length_octets;
  if (octets.size() < head) return std::nullopt;
  std::uint32_t type = 0;
  for (std::size_t i = 0; i < vendor.type_octets; ++i) type = type << 8U | octets[i];
  std::size_t length = octets.size();
  if (vendor.length_octets > 0) {
    length = 0;
    for (std::size_t i = vendor.type_octets; i < head; ++i) length = length << 8U | octets[i];
  }
  if (length < head || length > octets.size()) return std::nullopt;
  const OctetView value = octets.subspan(head, length - head);
  octets = octets.subspan(length);
  return std::pair{type, value};
}

}  // namespace detail

std::string Condition::text_of(std::size_t test, const Facts& facts) const {
  return fmt::format("{} ({})", text_of(tests_[test]), actual_text(tests_[test], facts));
}

std::string actual_text(const Test& test, const Facts& facts) {
  const auto said = [](std::string_view what, std::string_view value) {
    return value.empty() ? fmt::format("{} is not there", what)
                         : fmt::format("{} is '{}'", what, escaped(value));
  };
  switch (test.fact) {
    case Fact::attribute: {
      std::vector<std::string> values;
      std::size_t count = 0;
      each_value(*facts.packet, *test.attribute, *facts.catalogue, [&](OctetView value) {
        if (++count <= kMostShown) values.push_back(dictionary::print_value(*test.attribute, value));
        return true;
      });
      if (test.quantity == Quantity::count) return fmt::format("there are {} of them", count);
      if (values.empty()) return fmt::format("{} is not there", test.attribute->name);
      return fmt::format("{} is {}", test.attribute->name, join(values, ", "));
    }
    case Fact::label:
      return said("the client's label " + test.key, keyed_fact(test.fact, test.key, facts).value_or(""));
    case Fact::directory:
      return said(fmt::format("the directory's {}", test.key),
                  keyed_fact(test.fact, test.key, facts).value_or(""));
    case Fact::groups:
      if (facts.groups == nullptr || facts.groups->empty()) return "the user is in no group";
      return fmt::format("the user is in '{}'", join(*facts.groups, "', '"));
    case Fact::sessions:
      return facts.sessions == 0
                 ? "the user is online nowhere else"
                 : fmt::format("the user has {} elsewhere", counted(facts.sessions, "session"));
    case Fact::time:
    case Fact::day:
      return "it is " + clock_text(test.hours, facts.now);
    default:
      return said(fmt::format("the {}", text_fact_of(test.fact)->name), text_fact(test.fact, facts));
  }
}

}  // namespace jembatan::condition
