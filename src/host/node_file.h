#pragma once
#include <filesystem>
#include <optional>

#include "accounting/store.h"
#include "base/clock.h"
#include "base/ip.h"
#include "document/problems.h"
#include "journal/entry.h"

namespace jembatan::host {

enum class LogFormat : std::uint8_t { text, json };

/// One node's own settings: everything that is not the plan.
struct NodeSettings {
  std::filesystem::path file;  ///< where these stand
  std::string name;
  std::filesystem::path plan_folder;  ///< empty: the plan is changed by commands alone
  std::filesystem::path data_folder;
  std::vector<Endpoint> access;
  std::vector<Endpoint> accounting;
  std::vector<Endpoint>
      authorization;                 ///< of sessions that last (RFC 5176); none: such requests are not taken
  std::vector<IpAddress> send_from;  ///< source addresses of what is forwarded, at most one of each family
  int workers = 0;                   ///< 0: one a processor that the process may use
  Duration stop_within{5000};
  bool core_dumps = false;
  unsigned client_share = 50;  ///< the same of one client
  unsigned group_share = 50;   ///< percent of what may wait for servers, that one group may hold
  Endpoint management;
  std::filesystem::path token_file;
  std::filesystem::path certificate;  ///< of the management API, PEM; empty: no TLS
  std::filesystem::path private_key;
  std::filesystem::path key_file;  ///< what secrets in the store are sealed with
  LogFormat log_format = LogFormat::text;
  std::string log_level = "info";
  journal::Limits journal;
  Secret shared_database;   ///< a connection string of the database that several nodes share; empty: there is
                            ///< none
  std::string shared_plan;  ///< what the plan is called that nodes share in it; empty: it is the node's own
  std::chrono::seconds take_over_after{120};  ///< that a node of the plan was not seen: what waits there
  accounting::Housekeeping housekeeping;
};

/// Reads a node file; relative paths in it count from its folder.
std::optional<NodeSettings> read_node_file(const std::filesystem::path& path, document::Problems& problems);

/// Every key that a node file may have, for the reference: "listen.access", meaning.
std::vector<std::pair<std::string, std::string_view>> node_key_meanings();

}  // namespace jembatan::host
