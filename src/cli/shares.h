#pragma once
// How a node shares requests among the servers that it forwards to.
#include <map>

#include "cli/node_access.h"

namespace jembatan::cli {

/// Requests that were given to servers: by purpose ("access", "accounting"), then by "GROUP/SERVER".
using ByServer = std::map<std::string, std::map<std::string, std::uint64_t>>;

/// Since the node started.
///   errors  those of NodeClient::call
Result<ByServer> requests_by_server(NodeClient& node);
/// What came between two of them; servers that got nothing are left out.
ByServer between(const ByServer& before, ByServer after);

}  // namespace jembatan::cli
