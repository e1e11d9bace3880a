#pragma once
#include <string>

#include "server/server.h"

namespace jembatan::admin {

class Callers;

/// The node's counters in the text format of Prometheus (version 0.0.4).
std::string metrics_text(const server::Server& server, const Callers& callers);

}  // namespace jembatan::admin
