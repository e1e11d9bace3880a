#include "plan/assignments.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "dictionary/encode.h"
#include "dictionary/layout.h"
#include "wire/packet.h"

namespace jembatan::plan {
namespace {

using dictionary::Catalogue;
using dictionary::Column;
using document::Entry;
using document::Kind;
using document::Reading;
using wire::AttributeType;

constexpr std::int64_t kLastVlan = 4094;
constexpr std::size_t kMostReply =
    3072;  // leaves room for Proxy-State attributes and signatures in 4096 octets

// Attributes that the server writes itself: they prove the packet, or belong to a method or a hop.
constexpr std::array kOwn{AttributeType::proxy_state, AttributeType::message_authenticator,
                          AttributeType::eap_message};

class Assigning {
 public:
  Assigning(Reading& reading, const Catalogue& names, AssignedIn packet)
      : reading_(reading), names_(names), packet_(packet) {}

  Assignments run(const Entry& table) {
    for (const Entry& entry : table.value.entries) {
      if (entry.key == "vlan") {
        vlan(entry);
      } else if (const auto known = dictionary::find_named(names_, entry.key);
                 !known && !dictionary::parse_path(entry.key)) {
        reading_.wrong(entry, known.error().text, "vlan, or an attribute's name");
      } else if (!may_stand(entry)) {
        continue;
      } else if (entry.value.kind == Kind::array) {
        for (const document::Value& item : entry.value.items) value({entry.key, item.at, item});
      } else {
        value(entry);
      }
    }
    return std::move(out_);
  }

 private:
  const dictionary::Definition* definition_of(const std::string& name) const {
    if (const auto path = dictionary::parse_path(name)) return names_.at(*path);
    return names_.named(dictionary::split_tag(name).name);
  }

  bool may_stand(const Entry& entry) {
    const auto path = dictionary::parse_path(entry.key);
    const dictionary::Definition* known = definition_of(entry.key);
    const auto type = static_cast<AttributeType>(known != nullptr ? known->path.front() : path->front());
    const auto wrong = [&](std::string text) {
      reading_.wrong(entry, std::move(text));
      return false;
    };
    if (std::find(kOwn.begin(), kOwn.end(), type) != kOwn.end())
      return wrong(fmt::format("'{}' cannot be set: the server writes it itself", entry.key));
    if (packet_ == AssignedIn::edit || known == nullptr) return true;
    const Column column = packet_ == AssignedIn::accept ? Column::accept : Column::reject;
    // What stands inside another attribute, like a vendor's, may stand where that one may.
    const dictionary::Definition* outer = names_.at({known->path.front()});
    const auto never = [&](const dictionary::Definition* definition) {
      return definition != nullptr &&
             definition->presence[static_cast<std::size_t>(column)] == dictionary::Presence::never;
    };
    if (never(known) || never(outer))
      return wrong(
          fmt::format("'{}' must not stand in an {} ({})", known->name, name_of(column), known->source));
    if (type == AttributeType::state)
      return wrong(fmt::format("'{}' cannot be set: the server writes it itself", entry.key));
    return true;
  }

  void fixed(std::string_view name, std::string_view text) {
    auto encoded = dictionary::encode(names_, name, text);
    const dictionary::Definition* known = names_.named(name);
    out_.push_back({std::string(name), known, known->path, std::move(*encoded), std::nullopt});
  }

  void vlan(const Entry& entry) {
    const auto vlan = reading_.integer(entry, 1, kLastVlan);
    if (!vlan) return;
    fixed("Tunnel-Type", "VLAN");
    fixed("Tunnel-Medium-Type", "IEEE-802");
    fixed("Tunnel-Private-Group-ID", '"' + std::to_string(*vlan) + '"');
  }

  void value(const Entry& entry) {
    std::string text;
    if (entry.value.kind == Kind::integer) {
      text = std::to_string(entry.value.integer);
    } else if (!reading_.expect(entry, Kind::text)) {
      return;
    } else {
      text = entry.value.text;
    }
    Assignment out;
    out.name = entry.key;
    out.attribute = definition_of(entry.key);
    out.path = out.attribute != nullptr ? out.attribute->path : *dictionary::parse_path(entry.key);
    // Hidden values are made for each packet, as those with places are.
    const bool hidden = out.attribute != nullptr && out.attribute->hiding != dictionary::Hiding::none;
    if (condition::Template::has_places(text) || (hidden && packet_ == AssignedIn::edit)) {
      std::vector<condition::Mistake> mistakes;
      out.text = condition::Template::parse(text, names_, mistakes);
      for (const condition::Mistake& mistake : mistakes) reading_.wrong(entry, mistake.text, mistake.allowed);
      if (!out.text) return;
    } else {
      auto encoded = dictionary::encode(names_, entry.key, text);
      if (!encoded) return reading_.wrong(entry, encoded.error().text);
      out.fixed = std::move(*encoded);
    }
    out_.push_back(std::move(out));
  }

  Reading& reading_;
  const Catalogue& names_;
  AssignedIn packet_;
  Assignments out_;
};

}  // namespace

std::size_t size_of(const Assignments& assignments) {
  std::size_t out = 0;
  for (const Assignment& assignment : assignments) out += assignment.fixed.size();
  return out;
}

Assignments read_assignments(Reading& reading, const Entry& table, const Catalogue& catalogue,
                             AssignedIn packet) {
  if (!reading.expect(table, Kind::table)) return {};
  Assignments out = Assigning(reading, catalogue, packet).run(table);
  if (size_of(out) > kMostReply) {
    reading.wrong(table, fmt::format("the reply takes {} octets", size_of(out)),
                  fmt::format("0 to {}", kMostReply));
  }
  return out;
}

}  // namespace jembatan::plan
