#include "accounting/record.h"

#include <fmt/format.h>
#include <nettle/sha2.h>

#include <algorithm>

#include "base/text.h"
#include "dictionary/catalogue.h"

namespace jembatan::accounting {
namespace {

using wire::AttributeType;
using wire::PacketView;

constexpr std::uint32_t kLongestDelay = 30U * 86400U;  // a larger Acct-Delay-Time is not believed

std::string nas_of(const PacketView& packet, const std::string& client) {
  if (const auto id = packet.find(AttributeType::nas_identifier)) return escaped(id->value);
  const auto v4 = packet.find(AttributeType::nas_ip_address);
  if (v4 && v4->value.size() == 4) return IpAddress::from_v4(v4->value.data()).text();
  const auto v6 = packet.find(AttributeType::nas_ipv6_address);
  if (v6 && v6->value.size() == 16) return IpAddress::from_v6(v6->value.data()).text();
  return client;
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

// What is of one hop alone, and what an Accounting-Request must not carry (RFC 2866 §5.13, RFC 3579 §3.3):
// neither kept nor sent on.
bool is_left_out(AttributeType type) {
  switch (type) {
    case AttributeType::proxy_state:
    case AttributeType::message_authenticator:
    case AttributeType::user_password:
    case AttributeType::chap_password:
    case AttributeType::chap_challenge:
    case AttributeType::reply_message:
    case AttributeType::state:
    case AttributeType::eap_message:
      return true;
    default:
      return false;
  }
}

// Resends differ in Acct-Delay-Time and in what belongs to one hop, never in the rest.
std::array<std::uint8_t, 16> digest_of(const PacketView& packet, const std::string& client) {
  sha256_ctx sha;
  sha256_init(&sha);
  sha256_update(&sha, client.size() + 1, reinterpret_cast<const std::uint8_t*>(client.c_str()));
  for (const wire::Attribute attribute : packet.attributes()) {
    if (is_left_out(attribute.type) || attribute.type == AttributeType::acct_delay_time) continue;
    sha256_update(&sha, attribute.value.size() + wire::kAttributeHeader,
                  packet.octets().data() + attribute.offset);
  }
  std::array<std::uint8_t, 16> out;
  sha256_digest(&sha, out.size(), out.data());
  return out;
}

}  // namespace

std::string name_of(StatusType status) {
  const auto number = static_cast<std::uint32_t>(status);
  const auto* definition =
      dictionary::standard().numbered(static_cast<std::uint8_t>(AttributeType::acct_status_type));
  const auto* named = definition == nullptr ? nullptr : definition->value_numbered(number);
  return named == nullptr ? std::to_string(number) : named->name;
}

Result<Record> make_record(const PacketView& packet, Sender sender, std::string realm, WallTime received) {
  const auto status = number_in(packet.find(AttributeType::acct_status_type));
  if (!status) return fail(Errc::malformed, "no Acct-Status-Type of 4 octets");
  Record out;
  out.status = static_cast<StatusType>(*status);
  out.session_id = escaped(text_in(packet.find(AttributeType::acct_session_id)));
  const bool about_the_device =
      out.status == StatusType::accounting_on || out.status == StatusType::accounting_off;
  if (out.session_id.empty() && !about_the_device) return fail(Errc::malformed, "no Acct-Session-Id");
  out.received = received;
  out.event_time = event_time(packet, received);
  out.nas = nas_of(packet, sender.client);
  out.digest = digest_of(packet, sender.client);
  out.client = std::move(sender.client);
  out.source = sender.address;
  out.user = escaped(text_in(packet.find(AttributeType::user_name)));
  out.realm = std::move(realm);
  out.calling_station = escaped(text_in(packet.find(AttributeType::calling_station_id)));
  out.framed_ip = address_in(packet);
  out.input_octets =
      octets_counted(packet, AttributeType::acct_input_octets, AttributeType::acct_input_gigawords);
  out.output_octets =
      octets_counted(packet, AttributeType::acct_output_octets, AttributeType::acct_output_gigawords);
  out.session_time = number_in(packet.find(AttributeType::acct_session_time)).value_or(0);
  out.terminate_cause = number_in(packet.find(AttributeType::acct_terminate_cause)).value_or(0);
  for (const wire::Attribute attribute : packet.attributes()) {
    if (is_left_out(attribute.type)) continue;
    append(out.attributes,
           packet.octets().subspan(attribute.offset, attribute.value.size() + wire::kAttributeHeader));
  }
  return out;
}

Octets attributes_to_send(const Record& record, WallTime now) {
  using std::chrono::duration_cast;
  const auto waited =
      std::max(std::chrono::seconds(0), duration_cast<std::chrono::seconds>(now - record.received));
  Octets out = record.attributes;
  for (std::size_t at = 0; at + 6 <= out.size(); at += out[at + 1]) {
    if (out[at] != static_cast<std::uint8_t>(AttributeType::acct_delay_time) || out[at + 1] != 6) continue;
    store32(&out[at + 2], load32(&out[at + 2]) + static_cast<std::uint32_t>(waited.count()));
    return out;
  }
  if (waited.count() == 0) return out;
  const std::size_t at = out.size();
  out.resize(at + 6);
  out[at] = static_cast<std::uint8_t>(AttributeType::acct_delay_time);
  out[at + 1] = 6;
  store32(&out[at + 2], static_cast<std::uint32_t>(waited.count()));
  return out;
}

}  // namespace jembatan::accounting
