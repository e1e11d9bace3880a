#include "cli/packet_text.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "dictionary/value_text.h"

namespace jembatan::cli {

std::string attributes_text(const wire::PacketView& packet) {
  const auto& catalogue = dictionary::standard();
  std::size_t widest = 0;
  for (const wire::Attribute attribute : packet.attributes()) {
    widest = std::max(widest, dictionary::print_name(catalogue, attribute).size());
  }
  std::string out;
  for (const wire::Attribute attribute : packet.attributes()) {
    out += fmt::format("    {:{}}  {}\n", dictionary::print_name(catalogue, attribute), widest,
                       dictionary::print_value(catalogue, attribute));
  }
  return out.empty() ? "    (no attributes)\n" : out;
}

nlohmann::json packet_json(const wire::PacketView& packet) {
  nlohmann::json attributes = nlohmann::json::array();
  for (const wire::Attribute attribute : packet.attributes()) {
    attributes.push_back({{"name", dictionary::print_name(dictionary::standard(), attribute)},
                          {"value", dictionary::print_value(dictionary::standard(), attribute)}});
  }
  return {{"code", wire::name_of(packet.code())},
          {"identifier", packet.identifier()},
          {"octets", packet.octets().size()},
          {"attributes", attributes}};
}

}  // namespace jembatan::cli
