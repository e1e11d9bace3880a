#pragma once
#include <nlohmann/json_fwd.hpp>
#include <string>

#include "dictionary/describe.h"

namespace jembatan::cli {

/// One line an attribute, names padded to the longest, what stands inside others below them and indented.
std::string attributes_text(const std::vector<dictionary::Described>& lines);

/// [{"name": …, "value": …}], with "depth" for what stands inside others and "problem" for what is malformed.
nlohmann::json attributes_json(const std::vector<dictionary::Described>& lines);
/// A typed value of the API as people read it: text in quotes where it has to be.
std::string value_text(const nlohmann::json& value);
/// {"code": …, "identifier": …, "octets": …, "attributes": […]}
nlohmann::json packet_json(const wire::PacketView& packet, const std::vector<dictionary::Described>& lines);

}  // namespace jembatan::cli
