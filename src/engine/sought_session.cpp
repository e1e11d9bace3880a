#include "engine/sought_session.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "accounting/sessions.h"
#include "base/text.h"
#include "dictionary/catalogue.h"
#include "identity/device.h"
#include "identity/name.h"
#include "plan/realm_table.h"

namespace jembatan::engine {
namespace {

using accounting::Record;
using accounting::Session;
using wire::AttributeType;
using wire::PacketView;

// RFC 5176 §3: what tells the device, and what the session. Each at most once (§3.6).
constexpr std::array kOfDevice{AttributeType::nas_ip_address, AttributeType::nas_identifier,
                               AttributeType::nas_ipv6_address};
constexpr std::array kOfSession{AttributeType::user_name,
                                AttributeType::nas_port,
                                AttributeType::framed_ip_address,
                                AttributeType::called_station_id,
                                AttributeType::calling_station_id,
                                AttributeType::acct_session_id,
                                AttributeType::acct_multi_session_id,
                                AttributeType::nas_port_id,
                                AttributeType::chargeable_user_identity,
                                AttributeType::framed_interface_id,
                                AttributeType::framed_ipv6_prefix};
constexpr std::array kSentByUs{AttributeType::user_name,       AttributeType::nas_ip_address,
                               AttributeType::nas_port,        AttributeType::nas_identifier,
                               AttributeType::acct_session_id, AttributeType::nas_ipv6_address};
constexpr std::size_t kMostLookedAt = 16;  // sessions whose records are read for one request

std::string name_of(AttributeType type) {
  const auto* definition = dictionary::standard().numbered(static_cast<std::uint8_t>(type));
  return definition == nullptr ? std::to_string(static_cast<int>(type)) : definition->name;
}

// The last value that the records of a session have.
std::optional<Octets> last_value(std::span<const Record> records, AttributeType type) {
  for (auto record = records.rbegin(); record != records.rend(); ++record) {
    const Octets whole = accounting::as_packet(record->attributes);
    const auto packet = PacketView::parse(whole);
    const auto found = packet ? packet->find(type) : std::nullopt;
    if (found) return Octets(found->value.begin(), found->value.end());
  }
  return std::nullopt;
}

// A hop may have taken the realm off the name.
bool is_same_user(std::string_view asked, std::string_view known) {
  const std::string one = identity::comparable(asked);
  const std::string other = identity::comparable(known);
  if (one == other) return true;
  const auto user_of = [](std::string_view name) { return name.substr(0, name.rfind('@')); };
  return (user_of(one) == other || user_of(other) == one);
}

// Empty, or why it is another session.
std::string differs(const PacketView& request, std::span<const Record> records) {
  const auto differs_in = [&](AttributeType type) -> std::string {
    const auto asked = request.find(type);
    if (!asked) return {};
    const auto known = last_value(records, type);
    if (!known) return fmt::format("no record of it tells {}", name_of(type));
    const bool same = type == AttributeType::user_name ? is_same_user(text_of(asked->value), text_of(*known))
                                                       : std::equal(asked->value.begin(), asked->value.end(),
                                                                    known->begin(), known->end());
    return same ? "" : fmt::format("it has another {}", name_of(type));
  };
  for (const AttributeType type : kOfDevice)
    if (auto why = differs_in(type); !why.empty()) return why;
  for (const AttributeType type : kOfSession)
    if (auto why = differs_in(type); !why.empty()) return why;
  return {};
}

std::optional<NotAcknowledged> malformed(const PacketView& request) {
  const auto count = [&](AttributeType type) {
    const auto all = request.attributes();
    return std::count_if(all.begin(), all.end(), [&](const auto& one) { return one.type == type; });
  };
  std::ptrdiff_t told = 0;
  const auto is_twice = [&](AttributeType type) { return count(type) > 1; };
  for (const AttributeType type : kOfSession) told += count(type);
  for (const auto& types :
       {std::span<const AttributeType>(kOfSession), std::span<const AttributeType>(kOfDevice)})
    if (const auto twice = std::find_if(types.begin(), types.end(), is_twice); twice != types.end())
      return NotAcknowledged{ErrorCause::invalid_request,
                             "an attribute that may be there once is there twice", name_of(*twice)};
  if (told == 0)
    return NotAcknowledged{ErrorCause::missing_attribute, "nothing in it tells which session is meant"};
  return std::nullopt;
}

// What finds few in the store: the rest is compared with the records.
accounting::Query query_of(const PacketView& request) {
  accounting::Query out;
  out.open_only = true;
  out.most = kMostLookedAt + 1;
  out.session_id = escaped(text_in(request.find(AttributeType::acct_session_id)));
  out.calling_station = identity::station_of(request);
  if (const auto address = request.find(AttributeType::framed_ip_address);
      address && address->value.size() == 4)
    out.framed_ip = IpAddress::from_v4(address->value.data()).text();
  if (!out.session_id.empty()) return out;
  const std::string user(text_in(request.find(AttributeType::user_name)));
  out.user = escaped(user.substr(0, user.rfind('@')));
  return out;
}

}  // namespace

std::variant<FoundSession, NotAcknowledged> find_session(SessionFinder& among, const PacketView& request,
                                                         std::span<const std::string> realms) {
  if (auto wrong = malformed(request)) return std::move(*wrong);
  const auto open = among.sessions(query_of(request));
  if (!open)
    return NotAcknowledged{ErrorCause::resources_unavailable, "the store cannot be read", open.error().text};
  std::optional<FoundSession> found;
  std::string not_this;
  if (open->size() > kMostLookedAt)
    return NotAcknowledged{ErrorCause::multiple_session_selection_unsupported, "too many sessions fit",
                           "more than " + std::to_string(kMostLookedAt)};
  for (const Session& session : *open) {
    const std::string number = accounting::session_number(session.id);
    if (!plan::holds_realm(realms, session.realm)) {
      not_this = session.realm.empty()
                     ? fmt::format("session {} has no realm", number)
                     : fmt::format("session {} is of realm '{}'", number, escaped(session.realm));
      continue;
    }
    const auto records = among.records_of(session);
    if (!records || records->empty()) continue;
    if (std::string why = differs(request, *records); !why.empty()) {
      not_this = fmt::format("session {}: {}", number, why);
      continue;
    }
    if (found)
      return NotAcknowledged{ErrorCause::multiple_session_selection_unsupported, "it fits several sessions",
                             fmt::format("{} and {}", found->session.id, session.id)};
    found = FoundSession{session, records->back().source,
                         last_value(*records, AttributeType::user_name).value_or(Octets())};
  }
  if (found) return std::move(*found);
  return NotAcknowledged{ErrorCause::session_context_not_found,
                         "no open session is meant that its sender may touch", std::move(not_this)};
}

Octets identification_of(std::span<const Record> records) {
  Octets out;
  for (const AttributeType type : kSentByUs) {
    const auto value = last_value(records, type);
    if (!value) continue;
    out.push_back(static_cast<std::uint8_t>(type));
    out.push_back(static_cast<std::uint8_t>(value->size() + wire::kAttributeHeader));
    append(out, *value);
  }
  return out;
}

}  // namespace jembatan::engine
