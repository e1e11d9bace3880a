#include "admin/node_calls.h"

#include <nlohmann/json.hpp>

#include "admin/answers.h"
#include "admin/json.h"
#include "admin/metrics.h"
#include "admin/trust_calls.h"
#include "revision/wrap.h"

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
    return problem(asked.response, nodes.error().at("the shared database does not answer"));
  if (!nodes) return problem(asked.response, nodes.error());
  nlohmann::json list = nlohmann::json::array();
  for (const shared::Node& node : *nodes)
    list.push_back({{"name", node.name},
                    {"number", node.number},
                    {"version", node.version},
                    {"plan_revision", node.revision},
                    {"seen", text_of(node.seen)},
                    {"silent_s", node.silent.count()},
                    {"last_record", node.last_record},
                    {"backlog", node.backlog},
                    {"waiting", node.waiting},
                    {"plan", node.plan},
                    {"waits_with", node.waits_with.empty() ? "" : revision::fingerprint(node.waits_with)}});
  answer(asked.response, {{"nodes", list}});
}

void admit_node(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"name", "fingerprint"});
  if (!body) return;
  const auto name = text_in(*body, "name");
  const auto fingerprint = text_in(*body, "fingerprint");
  if (!name || !fingerprint)
    return problem(asked.response, 400, "Not understood", "which node? 'name' and 'fingerprint', as texts");
  const Status admitted = asked.server.admit_node(*name, *fingerprint, asked.caller.name);
  if (!admitted) return problem(asked.response, admitted.error());
  if (!put_on_record(asked, audit_entry(asked, "node admit", "node " + *name, *fingerprint))) return;
  answer(asked.response, {{"name", *name}, {"plan", asked.server.settings().shared_plan}});
}

}  // namespace jembatan::admin
