#include "identity/device.h"

#include "base/ip.h"
#include "base/text.h"

namespace jembatan::identity {

using wire::AttributeType;
using wire::PacketView;

std::string device_of(const PacketView& packet, const std::string& client) {
  if (const auto id = packet.find(AttributeType::nas_identifier)) return escaped(id->value);
  const auto v4 = packet.find(AttributeType::nas_ip_address);
  if (v4 && v4->value.size() == 4) return IpAddress::from_v4(v4->value.data()).text();
  const auto v6 = packet.find(AttributeType::nas_ipv6_address);
  if (v6 && v6->value.size() == 16) return IpAddress::from_v6(v6->value.data()).text();
  return client;
}

std::string port_of(const PacketView& packet) {
  if (const auto id = packet.find(AttributeType::nas_port_id)) return escaped(id->value);
  const auto number = number_in(packet.find(AttributeType::nas_port));
  return number ? std::to_string(*number) : "";
}

std::string station_of(const PacketView& packet) {
  return escaped(text_in(packet.find(AttributeType::calling_station_id)));
}

std::string place_of(const std::string& station, const std::string& device, const std::string& port) {
  if (!station.empty()) return lower(station);
  return port.empty() ? "" : device + " " + port;
}

}  // namespace jembatan::identity
