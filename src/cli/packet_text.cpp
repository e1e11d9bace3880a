#include "cli/packet_text.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "bodies/attribute.h"

namespace jembatan::cli {

using dictionary::Described;

std::string attributes_text(const std::vector<Described>& lines) {
  std::size_t widest = 0;
  for (const Described& line : lines) {
    widest = std::max(widest, line.name.size() + 2 * static_cast<std::size_t>(line.depth));
  }
  std::string out;
  for (const Described& line : lines) {
    const std::string name = std::string(2 * static_cast<std::size_t>(line.depth), ' ') + line.name;
    const std::string problem = line.problem.empty() ? "" : "  ! " + line.problem;
    out += fmt::format("    {:{}}  {}{}\n", name, widest, line.value, problem);
  }
  return out.empty() ? "    (no attributes)\n" : out;
}

nlohmann::json attributes_json(const std::vector<Described>& lines) {
  nlohmann::json out = nlohmann::json::array();
  for (const Described& line : lines) {
    nlohmann::json one{{"name", line.name}, {"value", bodies::json_of(line)}};
    if (line.depth > 0) one["depth"] = line.depth;
    if (!line.problem.empty()) one["problem"] = line.problem;
    out.push_back(std::move(one));
  }
  return out;
}

std::string value_text(const nlohmann::json& value) {
  return value.is_string() ? value.get<std::string>() : value.dump();
}

nlohmann::json packet_json(const wire::PacketView& packet, const std::vector<Described>& lines) {
  return {{"code", wire::name_of(packet.code())},
          {"identifier", packet.identifier()},
          {"octets", packet.octets().size()},
          {"attributes", attributes_json(lines)}};
}

}  // namespace jembatan::cli
