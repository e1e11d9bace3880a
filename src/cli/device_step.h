#pragma once
// A rehearsal's step that has a node end or change a session, with its device played here.
#include "cli/judging.h"
#include "cli/node_access.h"

namespace jembatan::cli {

/// The node that the device belongs to, and how commands name it.
struct FirstHop {
  NodeClient& node;
  Arguments options;
};
struct DeviceStep {
  std::string session;  ///< Acct-Session-Id
  const rehearsal::Step& step;
};

/// Waits until both nodes know the session, plays the device, and has `asking` ask for it.
///   errors  Errc::not_found: the session does not become known; Errc::conflict: the device's port is in use;
///           those of the nodes
Result<Came> ask_device(const FirstHop& first, NodeClient& asking, const DeviceStep& what);

}  // namespace jembatan::cli
