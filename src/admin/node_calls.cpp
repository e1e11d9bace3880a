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

}  // namespace jembatan::admin
