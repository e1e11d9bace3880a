#include "accounting/keys.h"

#include <nettle/sha2.h>

#include "base/text_hash.h"

namespace jembatan::accounting {
namespace {

using wire::AttributeType;
using wire::PacketView;

class Digesting {
 public:
  Digesting() { sha256_init(&sha_); }
  void take(OctetView octets) { sha256_update(&sha_, octets.size(), octets.data()); }
  Digest done() {
    Digest out;
    sha256_digest(&sha_, out.size(), out.data());
    return out;
  }

 private:
  sha256_ctx sha_;
};

// What no resend has differently.
constexpr std::array kOfTheEvent{
    AttributeType::acct_status_type,  AttributeType::nas_identifier,     AttributeType::nas_ip_address,
    AttributeType::nas_ipv6_address,  AttributeType::acct_session_id,    AttributeType::user_name,
    AttributeType::nas_port,          AttributeType::nas_port_id,        AttributeType::calling_station_id,
    AttributeType::framed_ip_address, AttributeType::framed_ipv6_prefix, AttributeType::event_timestamp};

bool happens_once(std::uint32_t status) {
  switch (static_cast<StatusType>(status)) {
    case StatusType::start:
    case StatusType::stop:
    case StatusType::accounting_on:
    case StatusType::accounting_off:
      return true;
    default:
      return false;
  }
}

}  // namespace

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

Digest digest_of(OctetView attributes) {
  Digesting out;
  while (attributes.size() >= wire::kAttributeHeader) {
    const auto type = static_cast<AttributeType>(attributes[0]);
    const OctetView one = attributes.first(attributes[1]);
    if (!is_left_out(type) && type != AttributeType::acct_delay_time) out.take(one);
    attributes = attributes.subspan(one.size());
  }
  return out.done();
}

bool is_by_a_clock(std::int64_t seconds) {
  constexpr std::int64_t kYear2020 = 1'577'836'800;
  constexpr std::int64_t kMostOfAnAttribute = 0xFFFFFFFF;
  return seconds >= kYear2020 && seconds <= kMostOfAnAttribute;
}

bool tells_when(const PacketView& packet) {
  return is_by_a_clock(number_in(packet.find(AttributeType::event_timestamp)).value_or(0));
}

Digest key_of(const PacketView& packet, const Sender& sender, const Digest& digest) {
  Digesting out;
  if (!tells_when(packet)) {
    out.take(view_of(sender.client + '\0' + sender.address.text() + '\0'));
  }
  if (!happens_once(number_in(packet.find(AttributeType::acct_status_type)).value_or(0))) {
    out.take(digest);
    return out.done();
  }
  for (const AttributeType type : kOfTheEvent) {
    if (const auto found = packet.find(type))
      out.take(packet.octets().subspan(found->offset, found->value.size() + wire::kAttributeHeader));
  }
  return out.done();
}

void rekey(Arrival& arrival) {
  arrival.digest = digest_of(arrival.attributes);
  const Octets whole = as_packet(arrival.attributes);
  if (const auto packet = PacketView::parse(whole))
    arrival.key = key_of(*packet, {arrival.client, arrival.source}, arrival.digest);
}

Sighting sighting_of(const Arrival& arrival) {
  return {arrival.event_time, stable_number(arrival.client), arrival.digest};
}

bool is_one_event(const Sighting& a, const Sighting& b) {
  const auto apart = a.event_time < b.event_time ? b.event_time - a.event_time : a.event_time - b.event_time;
  return apart <= kResendWindow && (a.client == b.client || a.digest == b.digest);
}

}  // namespace jembatan::accounting
