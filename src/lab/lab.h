#pragma once
// The demo chain on this machine: real jembatand processes on loopback addresses, each with a folder of its
// own.
#include <filesystem>
#include <string>
#include <vector>

#include "base/result.h"
#include "host/node_file.h"

namespace jembatan::lab {

struct Wish {
  bool fresh = false;      ///< forget earlier plans and data
  bool hosts = false;      ///< each node is a machine of its own (hosts.h)
  bool shared = false;     ///< the nodes bring their accounting to one PostgreSQL (database.h), and there are
                           ///< two hubs, with one plan
  bool directory = false;  ///< some of the company's people are in a directory (people.h)
  bool factors = false;    ///< the harbour's engineers have a second factor
  bool free_ports = false;  ///< replace the demo's ports by free ones when the folders are made
};

struct NodeState {
  std::string name;
  int process = 0;  ///< 0: not running
  std::string access;
  std::string accounting;
  std::string management;
  std::string host;                   ///< its address on the bridge; empty: it is no machine of its own
  std::vector<std::string> cut_from;  ///< nodes that it cannot reach (hosts.h)
  std::string fault;                  ///< of its stand-in: "delay 800ms"; empty: none
  std::filesystem::path folder;
};

/// Where the lab lives: $JEMBATAN_LAB, or jembatan/lab below $XDG_STATE_HOME or ~/.local/state.
std::filesystem::path folder();
/// Of a lab that was made with `shared`: has the plan of the first, which lets it in.
inline constexpr std::string_view kSecondHub = "hub-2";
/// From the device to the home servers: edge, hub, perhaps hub-2, reef-1, reef-2.
std::vector<std::string> node_names();

/// Makes the folders that are not there from the demo's files, then starts every node that is not running,
/// the last hop first, and waits until each is up.
///   errors  Errc::io, Errc::conflict: a node did not start; the text has the end of its log
Status up(const Wish& wish);
/// Starts the second hub, once the first has a plan to share.
///   returns  whether there is one
Result<bool> second_hub_up();
/// Where people and other nodes ask a node of the lab: its stand-in (relay.h) listens there, and passes on to
/// the node itself, which is the next address. Others than the lab's stay as they are.
Endpoint in_front(const Endpoint& inner);
/// The same for all addresses of a node.
void put_in_front(host::NodeSettings& settings);

/// Sets what is wrong with a node: a fault of its stand-in (fault.h), "off" (its process is stopped), or
/// "restart" (it is stopped and started again). Returns when it is so. "none" mends it, and starts what is
/// off.
/// The lab's directory, if it has one, is called "directory" (people.h).
///   errors  Errc::not_found: no such node; Errc::malformed; Errc::conflict: the lab is not up
Status set_fault(const std::string& node, const std::string& what);

/// Stops what runs; gives how many nodes that were.
Result<int> down();
std::vector<NodeState> status();

}  // namespace jembatan::lab
