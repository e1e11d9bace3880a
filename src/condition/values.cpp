#include "condition/values.h"

#include <fmt/format.h>

#include "base/text.h"
#include "dictionary/value_text.h"

namespace jembatan::condition {

using dictionary::DataType;
using dictionary::Definition;

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
  const bool of_packet = attribute.path.size() == 1;
  const bool of_vendor = attribute.path.size() == 3 && attribute.path.front() == 26;
  return !holds_others && attribute.hiding == dictionary::Hiding::none && (of_packet || of_vendor);
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

std::string_view text_fact(Fact fact, const Facts& facts) {
  switch (fact) {
    case Fact::user:
      return facts.user;
    case Fact::realm:
      return facts.realm;
    case Fact::client:
      return facts.client;
    case Fact::listener:
      return facts.listener;
    case Fact::method:
      return facts.method;
    default:
      return {};
  }
}

namespace detail {

OctetView without_tag(const Definition& attribute, OctetView value) {
  if (!attribute.tagged || value.empty()) return value;
  if (dictionary::tag_in_number(attribute)) return value.subspan(1);
  return value[0] <= dictionary::kLastTag ? value.subspan(1) : value;
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

std::string actual_text(const Test& test, const Facts& facts) {
  const auto said = [](std::string_view what, std::string_view value) {
    return value.empty() ? fmt::format("{} is not there", what)
                         : fmt::format("{} is '{}'", what, escaped(value));
  };
  switch (test.fact) {
    case Fact::attribute: {
      std::vector<std::string> values;
      each_value(*facts.packet, *test.attribute, *facts.catalogue, [&](OctetView value) {
        values.push_back(dictionary::print_value(*test.attribute, value));
        return values.size() < 5;
      });
      if (test.quantity == Quantity::count) return fmt::format("there are {} of them", values.size());
      if (values.empty()) return fmt::format("{} is not there", test.attribute->name);
      return fmt::format("{} is {}", test.attribute->name, join(values, ", "));
    }
    case Fact::label: {
      const auto found = facts.labels == nullptr ? std::map<std::string, std::string>::const_iterator{}
                                                 : facts.labels->find(test.label);
      const bool there = facts.labels != nullptr && found != facts.labels->end();
      return said("the client's label " + test.label,
                  there ? std::string_view(found->second) : std::string_view{});
    }
    case Fact::groups:
      if (facts.groups == nullptr || facts.groups->empty()) return "the user is in no group";
      return fmt::format("the user is in '{}'", join(*facts.groups, "', '"));
    case Fact::time:
    case Fact::day:
      return "it is " + clock_text(test.hours, facts.now);
    case Fact::user:
      return said("the user", facts.user);
    case Fact::realm:
      return said("the realm", facts.realm);
    case Fact::client:
      return said("the client", facts.client);
    case Fact::listener:
      return said("the listener", facts.listener);
    case Fact::method:
      return said("the method", facts.method);
  }
  return "";
}

}  // namespace jembatan::condition
