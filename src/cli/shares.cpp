#include "cli/shares.h"

#include <algorithm>
#include <nlohmann/json.hpp>

namespace jembatan::cli {

using nlohmann::json;

Result<ByServer> requests_by_server(NodeClient& node) {
  const auto body = node.call("GET", "/v1/servers");
  if (!body) return body.error();
  ByServer out;
  for (const json& row : body->at("servers"))
    out[row.value("purpose", "")][row.value("group", "") + "/" + row.value("server", "")] +=
        row.value("requests", std::uint64_t{0});
  return out;
}

ByServer between(const ByServer& before, ByServer after) {
  for (auto& [purpose, servers] : after) {
    const auto earlier = before.find(purpose);
    for (auto& [server, count] : servers) {
      if (earlier == before.end()) continue;
      const auto had = earlier->second.find(server);
      if (had != earlier->second.end())
        count -= std::min(count, had->second);  // the node may have started anew
    }
    std::erase_if(servers, [](const auto& one) { return one.second == 0; });
  }
  std::erase_if(after, [](const auto& one) { return one.second.empty(); });
  return after;
}

}  // namespace jembatan::cli
