#pragma once
#include <nlohmann/json_fwd.hpp>
#include <string>

#include "wire/packet.h"

namespace jembatan::cli {

/// One line an attribute, names padded to the longest: "  User-Name  "sari@reef.example"".
std::string attributes_text(const wire::PacketView& packet);

/// {"code": …, "identifier": …, "attributes": [{"name": …, "value": …}]}
nlohmann::json packet_json(const wire::PacketView& packet);

}  // namespace jembatan::cli
