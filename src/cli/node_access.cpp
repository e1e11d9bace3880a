#include "cli/node_access.h"

#include <fmt/format.h>
#include <httplib.h>

#include <cstdlib>
#include <nlohmann/json.hpp>

#include "base/secret.h"
#include "base/text.h"
#include "document/parse.h"
#include "lab/lab.h"

namespace jembatan::cli {

using nlohmann::json;

struct NodeClient::Connection {
  Connection(const server::NodeSettings& node, const Secret& token)
      : name(node.name),
        address(node.management.text()),
        http(node.management.address.text(), node.management.port) {
    http.set_connection_timeout(3);
    http.set_read_timeout(3700);  // a capture may be quiet for an hour
    http.set_bearer_token_auth(std::string(text_of(token.reveal())).c_str());
  }
  std::string name;
  std::string address;
  httplib::Client http;

  Error unreachable() const {
    return fail(Errc::unreachable,
                fmt::format("node {} does not answer on {}: is jembatand running?", name, address));
  }
};

std::vector<Option> node_options() {
  return {{"--node", "FILE",
           "node file of the server to talk to; default: the environment variable JEMBATAN_NODE"},
          {"--lab", "NAME", "a node of the demo chain instead: edge, hub, reef-1, reef-2"}};
}

Result<server::NodeSettings> find_node(const Arguments& arguments) {
  std::filesystem::path file = arguments.get("--node");
  if (arguments.has("--lab")) {
    file = lab::folder() / arguments.get("--lab") / "node.toml";
    if (!std::filesystem::exists(file)) {
      return fail(Errc::not_found,
                  fmt::format("no node '{}' in the lab; nodes: {}; to start it: jembatan lab up",
                              arguments.get("--lab"), join(lab::node_names(), ", ")));
    }
  } else if (file.empty()) {
    const char* named = std::getenv("JEMBATAN_NODE");
    if (named == nullptr) {
      return fail(Errc::not_found,
                  "which node? Name it with --node FILE, --lab NAME or the variable JEMBATAN_NODE");
    }
    file = named;
  }
  document::Problems problems;
  auto settings = server::read_node_file(file, problems);
  if (!settings)
    return fail(Errc::malformed, "the node file has " + problems.count_text() + "\n" + problems.text());
  return *settings;
}

NodeClient::NodeClient(std::unique_ptr<Connection> connection) : connection_(std::move(connection)) {}
NodeClient::NodeClient(NodeClient&&) noexcept = default;
NodeClient::~NodeClient() = default;

Result<NodeClient> NodeClient::open(const Arguments& arguments) {
  const auto node = find_node(arguments);
  if (!node) return node.error();
  const auto token = document::read_file(node->token_file);
  if (!token) {
    return token.error().at(fmt::format("token of node {} (made when jembatand first starts)", node->name));
  }
  return NodeClient(std::make_unique<Connection>(*node, Secret(trim(*token))));
}

Result<json> NodeClient::call(std::string_view method, const std::string& path,
                              const std::vector<std::pair<std::string, std::string>>& query) {
  httplib::Params params(query.begin(), query.end());
  const std::string target = params.empty() ? path : httplib::append_query_params(path, params);
  const auto result = method == "POST" ? connection_->http.Post(target) : connection_->http.Get(target);
  if (!result) return connection_->unreachable();
  const json body = json::parse(result->body, nullptr, false);
  if (result->status == 200 && !body.is_discarded()) return body;
  const std::string detail = body.is_object() ? body.value("detail", "") : "";
  std::string text = fmt::format("node {} answers {} to {} {}: {}", connection_->name, result->status, method,
                                 path, detail.empty() ? "nothing more" : detail);
  for (const json& problem : body.is_object() ? body.value("problems", json::array()) : json::array()) {
    text += fmt::format("\n{}:{}:{}: {}: {}; allowed: {}", problem.value("file", ""),
                        problem.value("line", 0), problem.value("column", 0), problem.value("level", ""),
                        problem.value("text", ""), problem.value("allowed", ""));
  }
  return fail(result->status == 422 ? Errc::malformed : Errc::not_allowed, text);
}

Status NodeClient::fetch(const std::string& path,
                         const std::vector<std::pair<std::string, std::string>>& query,
                         const std::function<bool(std::string_view)>& take) {
  const std::string target = httplib::append_query_params(path, httplib::Params(query.begin(), query.end()));
  int status = 0;
  std::string refusal;
  const auto result = connection_->http.Get(
      target.c_str(), httplib::Headers{},
      [&](const httplib::Response& response) {
        status = response.status;
        return true;
      },
      [&](const char* data, std::size_t size) {
        if (status == 200) return take({data, size});
        refusal.append(data, size);
        return true;
      });
  if (status == 0) return connection_->unreachable();
  if (status == 200) return {};
  const json body = json::parse(refusal, nullptr, false);
  return fail(Errc::not_allowed, fmt::format("node {} answers {}: {}", connection_->name, status,
                                             body.is_object() ? body.value("detail", "") : "nothing more"));
}

Status NodeClient::follow(const std::function<bool(const json&)>& take) {
  std::string waiting;
  int status = 0;
  bool ended = false;
  const auto result = connection_->http.Get(
      "/v1/events",
      [&](const httplib::Response& response) {
        status = response.status;
        return true;
      },
      [&](const char* data, std::size_t size) {
        waiting.append(data, size);
        for (std::size_t end = waiting.find("\n\n"); end != std::string::npos && !ended;
             end = waiting.find("\n\n")) {
          const std::string event = waiting.substr(0, end);
          waiting.erase(0, end + 2);
          if (!event.starts_with("data: ")) continue;
          const json item = json::parse(event.substr(6), nullptr, false);
          if (!item.is_discarded()) ended = !take(item);
        }
        return !ended;
      });
  if (ended) return {};
  if (status == 0) return connection_->unreachable();
  if (status != 200)
    return fail(Errc::not_allowed, fmt::format("node {} answers {}", connection_->name, status));
  return fail(Errc::unreachable, fmt::format("node {} has ended", connection_->name));
}

Exit report(const Error& error, Terminal& terminal) {
  terminal.error(error.text);
  switch (error.code) {
    case Errc::unreachable:
      return Exit::unreachable;
    case Errc::not_allowed:
    case Errc::conflict:
      return Exit::refused;
    case Errc::not_found:
    case Errc::malformed:
      return Exit::usage;
    default:
      return Exit::no;
  }
}

}  // namespace jembatan::cli
