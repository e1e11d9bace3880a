#include "accounting/record.h"

#include <fmt/format.h>

#include <algorithm>

#include "accounting/keys.h"
#include "base/text.h"
#include "dictionary/catalogue.h"
#include "identity/device.h"

namespace jembatan::accounting {
namespace {

using wire::AttributeType;
using wire::PacketView;

constexpr std::uint32_t kLongestDelay = 30U * 86400U;  // a larger Acct-Delay-Time is not believed

void append_number(Octets& to, AttributeType type, std::uint32_t value) {
  const std::size_t at = to.size();
  to.resize(at + 6);
  to[at] = static_cast<std::uint8_t>(type);
  to[at + 1] = 6;
  store32(&to[at + 2], value);
}

std::uint64_t octets_counted(const PacketView& packet, AttributeType low, AttributeType high) {
  return std::uint64_t{number_in(packet.find(high)).value_or(0)} << 32U |
         number_in(packet.find(low)).value_or(0);
}

std::string address_in(const PacketView& packet) {
  const auto found = packet.find(AttributeType::framed_ip_address);
  return found && found->value.size() == 4 ? IpAddress::from_v4(found->value.data()).text() : "";
}

WallTime event_time(const PacketView& packet, WallTime received) {
  if (const auto stamp = number_in(packet.find(AttributeType::event_timestamp))) {
    return std::chrono::system_clock::from_time_t(*stamp);
  }
  const std::uint32_t delay = number_in(packet.find(AttributeType::acct_delay_time)).value_or(0);
  return received - std::chrono::seconds(delay <= kLongestDelay ? delay : 0);
}

}  // namespace

std::string name_of(StatusType status) {
  const auto number = static_cast<std::uint32_t>(status);
  const auto* definition =
      dictionary::standard().numbered(static_cast<std::uint8_t>(AttributeType::acct_status_type));
  const auto* named = definition == nullptr ? nullptr : definition->value_numbered(number);
  return named == nullptr ? std::to_string(number) : named->name;
}

Result<Arrival> arrival_of(const PacketView& packet, Sender sender, std::string realm, WallTime received) {
  const auto status = number_in(packet.find(AttributeType::acct_status_type));
  if (!status) return fail(Errc::malformed, "no Acct-Status-Type of 4 octets");
  const auto type = static_cast<StatusType>(*status);
  const bool about_the_device = type == StatusType::accounting_on || type == StatusType::accounting_off;
  if (text_in(packet.find(AttributeType::acct_session_id)).empty() && !about_the_device)
    return fail(Errc::malformed, "no Acct-Session-Id");
  Arrival out;
  out.received = received;
  out.event_time = event_time(packet, received);
  out.client = std::move(sender.client);
  out.source = sender.address;
  out.realm = std::move(realm);
  for (const wire::Attribute attribute : packet.attributes()) {
    if (is_left_out(attribute.type)) continue;
    append(out.attributes,
           packet.octets().subspan(attribute.offset, attribute.value.size() + wire::kAttributeHeader));
  }
  out.digest = digest_of(out.attributes);
  out.key = key_of(packet, {out.client, out.source}, out.digest);
  return out;
}

Octets as_packet(OctetView attributes) {
  Octets out(wire::kHeader);
  out[0] = static_cast<std::uint8_t>(wire::Code::accounting_request);
  append(out, attributes);
  store16(&out[2], static_cast<std::uint16_t>(out.size()));
  return out;
}

Record taken_apart(Arrival arrival) {
  Record out;
  static_cast<Arrival&>(out) = std::move(arrival);
  const Octets whole = as_packet(out.attributes);
  const auto parsed = PacketView::parse(whole);
  if (!parsed) return out;  // an inbox with a damaged record: what can be kept is kept
  const PacketView& packet = *parsed;
  out.status = static_cast<StatusType>(number_in(packet.find(AttributeType::acct_status_type)).value_or(0));
  out.nas = identity::device_of(packet, out.client);
  out.port = identity::port_of(packet);
  out.session_id = escaped(text_in(packet.find(AttributeType::acct_session_id)));
  out.user = escaped(text_in(packet.find(AttributeType::user_name)));
  out.calling_station = identity::station_of(packet);
  out.framed_ip = address_in(packet);
  out.input_octets =
      octets_counted(packet, AttributeType::acct_input_octets, AttributeType::acct_input_gigawords);
  out.output_octets =
      octets_counted(packet, AttributeType::acct_output_octets, AttributeType::acct_output_gigawords);
  out.session_time = number_in(packet.find(AttributeType::acct_session_time)).value_or(0);
  out.terminate_cause = number_in(packet.find(AttributeType::acct_terminate_cause)).value_or(0);
  return out;
}

Octets attributes_to_send(const Arrival& arrival, WallTime now) {
  using std::chrono::duration_cast;
  const auto waited =
      std::max(std::chrono::seconds(0), duration_cast<std::chrono::seconds>(now - arrival.received));
  Octets out = arrival.attributes;
  bool told = false;
  bool delayed = waited.count() == 0;
  for (std::size_t at = 0; at + 6 <= out.size(); at += out[at + 1]) {
    const auto type = static_cast<AttributeType>(out[at]);
    told = told || type == AttributeType::event_timestamp;
    if (delayed || type != AttributeType::acct_delay_time || out[at + 1] != 6) continue;
    store32(&out[at + 2], load32(&out[at + 2]) + static_cast<std::uint32_t>(waited.count()));
    delayed = true;
  }
  if (!delayed)
    append_number(out, AttributeType::acct_delay_time, static_cast<std::uint32_t>(waited.count()));
  const std::int64_t event = std::chrono::system_clock::to_time_t(arrival.event_time);
  if (!told && is_by_a_clock(event))
    append_number(out, AttributeType::event_timestamp, static_cast<std::uint32_t>(event));
  return out;
}

}  // namespace jembatan::accounting
