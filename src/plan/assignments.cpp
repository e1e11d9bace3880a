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
  Assigning(Reading& reading, const Context& context, AssignedIn packet)
      : reading_(reading), names_(context.catalogue), outside_(context.outside), packet_(packet) {}

  Assignments run(const Entry& table) {
    for (const Entry& entry : table.value.entries) {
      const auto* known = dictionary::definition_of(names_, entry.key);
      if (known != nullptr && known->hiding != dictionary::Hiding::none) reading_.hide(entry.key);
    }
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
  bool may_stand(const Entry& entry) {
    const auto path = dictionary::parse_path(entry.key);
    const dictionary::Definition* known = dictionary::definition_of(names_, entry.key);
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
    Assignment out;
    out.name = entry.key;
    out.attribute = dictionary::definition_of(names_, entry.key);
    out.path = out.attribute != nullptr ? out.attribute->path : *dictionary::parse_path(entry.key);
    if (out.is_hidden()) return hidden(entry, std::move(out));
    std::string text;
    if (entry.value.kind == Kind::integer) {
      text = std::to_string(entry.value.integer);
    } else if (!reading_.expect(entry, Kind::text)) {
      return;
    } else {
      text = entry.value.text;
    }
    if (text.empty())  // RFC 2865 §5: an attribute has one octet or more
      return reading_.wrong(entry, fmt::format("'{}' is empty", entry.key), "one octet or more");
    if (condition::Template::has_places(text)) {
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

  // A secret like others; made for each packet, as texts with places are. No message shows any of it.
  void hidden(const Entry& entry, Assignment out) {
    auto secret = secret_of(entry, outside_);
    if (!secret) return reading_.wrong(entry, secret.error().text, std::string(kSecretForms));
    const std::string_view text = text_of(secret->reveal());
    if (condition::Template::has_places(text)) {
      std::vector<condition::Mistake> mistakes;
      out.text = condition::Template::parse(text, names_, mistakes);
      if (!out.text)
        return reading_.wrong(entry, fmt::format("'{}' has a place that cannot be filled in", entry.key),
                              mistakes.empty() ? "" : mistakes.front().allowed);
    } else if (!dictionary::encode(names_, entry.key, text, dictionary::hide_for_nobody)) {
      return reading_.wrong(
          entry, fmt::format("what '{}' holds does not fit", entry.key),
          fmt::format("a value of type {}, short enough to be hidden", name_of(out.attribute->type)));
    } else {
      out.hidden = std::move(*secret);
    }
    out_.push_back(std::move(out));
  }

  Reading& reading_;
  const Catalogue& names_;
  const Outside& outside_;
  AssignedIn packet_;
  Assignments out_;
};

}  // namespace

std::size_t size_of(const Assignments& assignments) {
  std::size_t out = 0;
  for (const Assignment& assignment : assignments) out += assignment.fixed.size();
  return out;
}

Assignments read_assignments(Reading& reading, const Entry& table, const Context& context,
                             AssignedIn packet) {
  if (!reading.expect(table, Kind::table)) return {};
  Assignments out = Assigning(reading, context, packet).run(table);
  if (size_of(out) > kMostReply) {
    reading.wrong(table, fmt::format("the reply takes {} octets", size_of(out)),
                  fmt::format("0 to {}", kMostReply));
  }
  return out;
}

}  // namespace jembatan::plan
