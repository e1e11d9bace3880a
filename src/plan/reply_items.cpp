#include "plan/reply_items.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "dictionary/encode.h"
#include "wire/packet.h"

namespace jembatan::plan {
namespace {

using dictionary::Catalogue;
using document::Entry;
using document::Kind;
using document::Reading;
using wire::AttributeType;

constexpr std::int64_t kLastVlan = 4094;
constexpr std::size_t kMostReply =
    3072;  // leaves room for Proxy-State attributes and signatures in 4096 octets

// Attributes that the server writes itself, or that never stand in an Access-Accept.
constexpr std::array kOwn{AttributeType::user_password, AttributeType::proxy_state, AttributeType::state,
                          AttributeType::message_authenticator, AttributeType::eap_message};

void add_vlan(Reading& reading, const Entry& entry, const Catalogue& names, Octets& out) {
  const auto vlan = reading.integer(entry, 1, kLastVlan);
  if (!vlan) return;
  append(out, *dictionary::encode(names, "Tunnel-Type", "VLAN"));
  append(out, *dictionary::encode(names, "Tunnel-Medium-Type", "IEEE-802"));
  append(out, *dictionary::encode(names, "Tunnel-Private-Group-ID", '"' + std::to_string(*vlan) + '"'));
}

void add_value(Reading& reading, const Entry& entry, const Catalogue& names, Octets& out) {
  std::string text;
  if (entry.value.kind == Kind::integer) {
    text = std::to_string(entry.value.integer);
  } else if (!reading.expect(entry, Kind::text)) {
    return;
  } else {
    text = entry.value.text;
  }
  const auto encoded = dictionary::encode(names, entry.key, text);
  if (!encoded) {
    reading.wrong(entry, encoded.error().text);
  } else if (std::find(kOwn.begin(), kOwn.end(), static_cast<AttributeType>((*encoded)[0])) != kOwn.end()) {
    reading.wrong(
        entry, fmt::format("'{}' cannot be set in a reply: the server writes it itself, or no reply has it",
                           entry.key));
  } else {
    append(out, *encoded);
  }
}

}  // namespace

Octets read_reply(Reading& reading, const Entry& table, const Catalogue& catalogue) {
  Octets out;
  if (!reading.expect(table, Kind::table)) return out;
  for (const Entry& entry : table.value.entries) {
    if (entry.key == "vlan") {
      add_vlan(reading, entry, catalogue, out);
    } else if (const auto known = dictionary::find_named(catalogue, entry.key);
               !known && !dictionary::parse_path(entry.key)) {
      reading.wrong(entry, known.error().text, "vlan, or an attribute's name");
    } else if (entry.value.kind == Kind::array) {
      for (const document::Value& item : entry.value.items)
        add_value(reading, {entry.key, item.at, item}, catalogue, out);
    } else {
      add_value(reading, entry, catalogue, out);
    }
  }
  if (out.size() > kMostReply) {
    reading.wrong(table, fmt::format("the reply takes {} octets", out.size()),
                  fmt::format("0 to {}", kMostReply));
  }
  return out;
}

}  // namespace jembatan::plan
