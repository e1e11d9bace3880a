#pragma once
#include <filesystem>
#include <optional>

#include "base/clock.h"
#include "base/ip.h"
#include "document/problems.h"

namespace jembatan::server {

enum class LogFormat : std::uint8_t { text, json };

/// One node's own settings: everything that is not the plan.
struct NodeSettings {
  std::string name;
  std::filesystem::path plan_folder;
  std::filesystem::path data_folder;
  std::vector<Endpoint> access;
  std::vector<Endpoint> accounting;
  std::vector<IpAddress> send_from;  ///< source addresses of what is forwarded, at most one of each family
  int workers = 0;                   ///< 0: one a core
  Duration stop_within{5000};
  Endpoint management;
  std::filesystem::path token_file;
  LogFormat log_format = LogFormat::text;
  std::string log_level = "info";
};

/// Reads a node file; relative paths in it count from its folder.
std::optional<NodeSettings> read_node_file(const std::filesystem::path& path, document::Problems& problems);

/// Every key that a node file may have, for the reference: "listen.access", meaning.
std::vector<std::pair<std::string, std::string_view>> node_key_meanings();

}  // namespace jembatan::server
