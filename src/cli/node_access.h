#pragma once
// Which node a command talks to, and talking to it.
#include <functional>
#include <memory>
#include <nlohmann/json_fwd.hpp>

#include "cli/command.h"
#include "host/node_file.h"

namespace jembatan::cli {

/// The options by which a command is told its node: --node FILE, --lab NAME for a node of the demo chain, or
/// --url and --token-file.
std::vector<Option> node_options();

/// The options of a command that reads from a node: its own, those that name a node, and --json.
std::vector<Option> reading_options(std::vector<Option> own = {});

/// Where something is reached on this machine that listens on an address: loopback if on all of them.
IpAddress reachable(const IpAddress& address);

/// Reads the node file that the options name; without any, that of the environment variable JEMBATAN_NODE.
Result<host::NodeSettings> find_node(const Arguments& arguments);

/// A client of one node's management API.
class NodeClient {
 public:
  /// Finds the node and its token.
  static Result<NodeClient> open(const Arguments& arguments);
  NodeClient(NodeClient&&) noexcept;
  ~NodeClient();

  /// One call. The error's code is Errc::unreachable if nobody answers, otherwise what the node said.
  ///   method  "GET" or "POST"
  ///   body    sent with a POST
  ///   query   appended to the path, escaped
  Result<nlohmann::json> call(std::string_view method, const std::string& path,
                              const std::vector<std::pair<std::string, std::string>>& query = {});
  Result<nlohmann::json> post(const std::string& path, const nlohmann::json& body);
  /// What a GET answers, in pieces as they come.
  Status fetch(const std::string& path, const std::vector<std::pair<std::string, std::string>>& query,
               const std::function<bool(std::string_view)>& take);
  /// Gives each event of the live feed to `take`, until it returns false or the node ends.
  ///   where  a condition that must hold; empty: all
  Status follow(const std::string& where, const std::function<bool(const nlohmann::json&)>& take);

 private:
  struct Connection;
  explicit NodeClient(std::unique_ptr<Connection> connection);
  Result<nlohmann::json> call_with(std::string_view method, const std::string& path,
                                   const std::vector<std::pair<std::string, std::string>>& query,
                                   const std::string& body);
  std::unique_ptr<Connection> connection_;
};

/// Prints the error and gives the exit code that belongs to it.
Exit report(const Error& error, Terminal& terminal);

}  // namespace jembatan::cli
