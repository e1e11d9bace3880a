#include "admin/node_calls.h"

#include <nlohmann/json.hpp>

#include "admin/answers.h"
#include "admin/json.h"
#include "admin/metrics.h"

namespace jembatan::admin {

void show_metrics(const Asked& asked) {
  asked.response.type = "text/plain; version=0.0.4";
  asked.response.body = metrics_text(asked.server, asked.callers);
}

void show_node(const Asked& asked) {
  answer(asked.response, json_of(asked.server.status()));
}

// Those that share the database with this one, as the database knows them.
void list_shared_nodes(const Asked& asked) {
  const auto nodes = asked.server.shared_nodes();
  if (!nodes && nodes.error().code == Errc::unreachable)
    return problem(asked.response, 503, "Not reached",
                   "the shared database does not answer: " + nodes.error().text);
  if (!nodes) return problem(asked.response, nodes.error());
  nlohmann::json list = nlohmann::json::array();
  for (const shared::Node& node : *nodes)
    list.push_back({{"name", node.name},
                    {"version", node.version},
                    {"plan_revision", node.revision},
                    {"seen", text_of(node.seen)},
                    {"silent_s", node.silent.count()},
                    {"last_record", node.last_record},
                    {"backlog", node.backlog}});
  answer(asked.response, {{"nodes", list}});
}

}  // namespace jembatan::admin
