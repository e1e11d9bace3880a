#pragma once
// The demo chain on this machine: real jembatand processes on loopback addresses, each with a folder of its
// own.
#include <filesystem>
#include <string>
#include <vector>

#include "base/result.h"

namespace jembatan::lab {

struct Wish {
  bool fresh = false;       ///< forget earlier plans and data
  bool free_ports = false;  ///< replace the demo's ports by free ones when the folders are made
};

struct NodeState {
  std::string name;
  int process = 0;  ///< 0: not running
  std::string access;
  std::string accounting;
  std::string management;
  std::filesystem::path folder;
};

/// Where the lab lives: $JEMBATAN_LAB, or jembatan/lab below $XDG_STATE_HOME or ~/.local/state.
std::filesystem::path folder();
/// From the device to the home servers: edge, hub, reef-1, reef-2.
std::vector<std::string> node_names();

/// Makes the folders that are not there from the demo's files, then starts every node that is not running,
/// the last hop first, and waits until each is up.
///   errors  Errc::io, Errc::conflict: a node did not start; the text has the end of its log
Status up(const Wish& wish);
/// Stops what runs; gives how many nodes that were.
Result<int> down();
std::vector<NodeState> status();

}  // namespace jembatan::lab
