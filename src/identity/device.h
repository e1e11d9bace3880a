#pragma once
// Which device, and where at it somebody is: the same for sign-ins and for accounting.
#include <string>

#include "wire/packet.h"

namespace jembatan::identity {

/// NAS-Identifier, or NAS-IP(v6)-Address, or the client's name.
std::string device_of(const wire::PacketView& packet, const std::string& client);
/// NAS-Port-Id, or NAS-Port; empty if neither is there.
std::string port_of(const wire::PacketView& packet);
/// Calling-Station-Id as it is shown.
std::string station_of(const wire::PacketView& packet);

/// Where a user is: their station, or the port of the device; empty if neither is told.
std::string place_of(const std::string& station, const std::string& device, const std::string& port);

}  // namespace jembatan::identity
