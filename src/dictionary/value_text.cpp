#include "dictionary/value_text.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cstring>

#include "base/ip.h"
#include "base/text.h"

namespace jembatan::dictionary {
namespace {

std::string quoted(OctetView value) {
  return '"' + escaped(value) + '"';
}

std::string print_prefix(OctetView value, std::size_t most, std::uint8_t bits) {
  if (value.size() < 2 || value.size() > most + 2 || value[1] > bits) return octets_text(value);
  std::uint8_t address[16]{};
  std::copy(value.begin() + 2, value.end(), address);
  const IpAddress ip = bits == 32 ? IpAddress::from_v4(address) : IpAddress::from_v6(address);
  return fmt::format("{}/{}", ip.text(), value[1]);
}

std::string print_number(const Definition& definition, std::uint32_t number) {
  if (const NamedValue* named = definition.value_numbered(number)) return named->name;
  return std::to_string(number);
}

Octets octets_of_number(std::uint32_t number) {
  Octets out(4);
  store32(out.data(), number);
  return out;
}

Result<Octets> parse_named_number(const Definition& definition, std::string_view text) {
  if (const NamedValue* named = definition.value_named(text)) return octets_of_number(named->number);
  if (const auto number = parse_number(text, 0xFFFFFFFF))
    return octets_of_number(static_cast<std::uint32_t>(*number));
  if (definition.type == DataType::integer) {
    const auto duration = parse_duration(text);
    if (duration) return octets_of_number(static_cast<std::uint32_t>(duration->count() / 1000));
    return fail(
        Errc::malformed,
        fmt::format("'{}' is not a number; allowed: 0 to 4294967295, or a time like 12h", escaped(text)));
  }
  std::vector<std::string> names;
  for (const NamedValue& value : definition.values) names.push_back(value.name);
  std::string allowed = join(names, ", ") + ", or a number";
  if (const auto near = nearest(text, names)) allowed += fmt::format("; nearest: '{}'", *near);
  return fail(Errc::malformed,
              fmt::format("'{}' is no value of {}; allowed: {}", escaped(text), definition.name, allowed));
}

Result<Octets> parse_address(std::string_view text, Family family) {
  const auto address = IpAddress::parse(text);
  if (!address) return address.error();
  if (address->family != family) {
    return fail(Errc::malformed, fmt::format("'{}' is an IPv{} address; allowed: IPv{}", text,
                                             family == Family::v4 ? 6 : 4, family == Family::v4 ? 4 : 6));
  }
  return Octets(address->view().begin(), address->view().end());
}

Result<Octets> parse_prefix(std::string_view text, Family family) {
  const auto prefix = Prefix::parse(text);
  if (!prefix) return prefix.error();
  if (prefix->address.family != family) {
    return fail(Errc::malformed, fmt::format("'{}' is of the other address family", text));
  }
  // RFC 8044 §3.10, §3.11: reserved octet, length, then the address; IPv6 may leave zero octets off.
  const std::size_t used = family == Family::v4 ? 4U : (prefix->length + 7U) / 8U;
  Octets out{0, prefix->length};
  append(out, prefix->address.view().first(used));
  return out;
}

Result<Octets> parse_ifid(std::string_view text) {
  const auto address = IpAddress::parse("::" + std::string(text));
  if (!address || address->family != Family::v6) {
    return fail(Errc::malformed,
                fmt::format("'{}' is not an interface identifier; allowed: like 0:0:0:1", escaped(text)));
  }
  return Octets(address->octets.begin() + 8, address->octets.end());
}

Result<Octets> parse_moment(std::string_view text) {
  if (const auto number = parse_number(text, 0xFFFFFFFF))
    return octets_of_number(static_cast<std::uint32_t>(*number));
  const auto time = parse_time(text);
  if (!time) return time.error();
  return octets_of_number(static_cast<std::uint32_t>(std::chrono::system_clock::to_time_t(*time)));
}

}  // namespace

std::string octets_text(OctetView value) {
  return value.empty() ? "\"\"" : "0x" + to_hex(value);
}

bool tag_in_number(const Definition& definition) {
  return definition.tagged &&
         (definition.type == DataType::integer || definition.type == DataType::enumeration);
}

Result<std::uint64_t> parse_number(std::string_view text, std::uint64_t most) {
  std::uint64_t value = 0;
  const bool hex = text.starts_with("0x");
  const std::string_view digits = hex ? text.substr(2) : text;
  const auto [end, problem] =
      std::from_chars(digits.data(), digits.data() + digits.size(), value, hex ? 16 : 10);
  if (problem != std::errc{} || end != digits.data() + digits.size() || digits.empty() || value > most) {
    return fail(Errc::malformed, fmt::format("'{}' is not a number; allowed: 0 to {}", escaped(text), most));
  }
  return value;
}

std::string print_value(const Definition& definition, OctetView value) {
  if (definition.hiding != Hiding::none) return fmt::format("(hidden, {} octets)", value.size());
  switch (definition.type) {
    case DataType::integer:
    case DataType::enumeration:
      if (value.size() != 4) break;
      return print_number(
          definition, tag_in_number(definition) ? load32(value.data()) & 0xFFFFFFU : load32(value.data()));
    case DataType::time:
      if (value.size() != 4) break;
      return text_of(std::chrono::system_clock::from_time_t(load32(value.data())));
    case DataType::text:
      return quoted(value);
    case DataType::string:
    case DataType::concat:
    case DataType::tlv:
    case DataType::extended:
    case DataType::long_extended:
    case DataType::evs:
    case DataType::vsa:
      break;
    case DataType::ifid:
      if (value.size() != 8) break;
      return fmt::format("{:x}:{:x}:{:x}:{:x}", load16(&value[0]), load16(&value[2]), load16(&value[4]),
                         load16(&value[6]));
    case DataType::ipv4addr:
      if (value.size() != 4) break;
      return IpAddress::from_v4(value.data()).text();
    case DataType::ipv6addr:
      if (value.size() != 16) break;
      return IpAddress::from_v6(value.data()).text();
    case DataType::ipv6prefix:
      return print_prefix(value, 16, 128);
    case DataType::ipv4prefix:
      return print_prefix(value, 4, 32);
    case DataType::integer64:
      if (value.size() != 8) break;
      return std::to_string(load64(value.data()));
  }
  return octets_text(value);
}

Result<Octets> parse_value(const Definition& definition, std::string_view text) {
  const bool in_quotes = text.size() >= 2 && text.front() == '"' && text.back() == '"';
  const std::string_view bare = in_quotes ? text.substr(1, text.size() - 2) : text;
  switch (definition.type) {
    case DataType::integer:
    case DataType::enumeration:
      return parse_named_number(definition, bare);
    case DataType::time:
      return parse_moment(bare);
    case DataType::text:
    case DataType::string:
    case DataType::concat:
    case DataType::tlv:
    case DataType::vsa:
    case DataType::extended:
    case DataType::long_extended:
    case DataType::evs: {
      if (!in_quotes && text.starts_with("0x")) return from_hex(text.substr(2));
      return in_quotes ? unescaped(bare) : octets_of(bare);
    }
    case DataType::ifid:
      return parse_ifid(bare);
    case DataType::ipv4addr:
      return parse_address(bare, Family::v4);
    case DataType::ipv6addr:
      return parse_address(bare, Family::v6);
    case DataType::ipv6prefix:
      return parse_prefix(bare, Family::v6);
    case DataType::ipv4prefix:
      return parse_prefix(bare, Family::v4);
    case DataType::integer64: {
      const auto number = parse_number(bare, ~std::uint64_t{0});
      if (!number) return number.error();
      Octets out(8);
      store64(out.data(), *number);
      return out;
    }
  }
  return fail(Errc::malformed, "unknown data type");
}

}  // namespace jembatan::dictionary
