#include "cli/peer.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/exchange.h"
#include "cli/node_access.h"
#include "cli/secrets.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

Result<Secret> given_secret(const Arguments& arguments) {
  if (arguments.has("--secret-file")) return secret_in_file(arguments.get("--secret-file"));
  if (arguments.has("--secret")) return Secret(arguments.get("--secret"));
  return fail(Errc::not_found, "no shared secret; give --secret-file FILE or --secret TEXT");
}

std::uint16_t default_port(PortOf port) {
  switch (port) {
    case PortOf::access:
      return 1812;
    case PortOf::accounting:
      return 1813;
    case PortOf::authorization:
      break;
  }
  return 3799;  // RFC 5176 §2.1
}

Result<Peer> at_address(const Arguments& arguments, PortOf port) {
  const auto to = resolve(arguments.get("--to"), default_port(port));
  if (!to) return to.error();
  auto secret = given_secret(arguments);
  if (!secret) return secret.error();
  return Peer{*to, arguments.get("--from"), std::move(*secret), to->text()};
}

// Where the node listens, in the family of an address to send from; the first, if there is none of it.
Endpoint endpoint_of(const host::NodeSettings& node, PortOf port, const std::string& from) {
  const auto& listens = port == PortOf::access ? node.access : node.accounting;
  const auto source = IpAddress::parse(from);
  const auto found = std::find_if(listens.begin(), listens.end(), [&](const Endpoint& one) {
    return source && one.address.family == source->family;
  });
  const Endpoint& at = found == listens.end() ? listens.front() : *found;
  return {reachable(at.address), at.port};
}

// The demo's own client for trying things, whose secret lies beside the plan.
Result<Peer> as_tester(const Arguments& arguments, const host::NodeSettings& node, PortOf port) {
  const auto folder = node.plan_folder.empty() ? node.file.parent_path() / "plan" : node.plan_folder;
  const bool given = arguments.has("--secret-file") || arguments.has("--secret");
  auto secret = given ? given_secret(arguments) : secret_in_file((folder / "secrets" / "tester").string());
  if (!secret) return secret.error();
  const Endpoint to = endpoint_of(node, port, arguments.get("--from"));
  return Peer{to, arguments.get("--from"), std::move(*secret), fmt::format("{} ({})", to.text(), node.name)};
}

Result<json> object_of(NodeClient& node, const char* kind, const std::string& name) {
  const auto body = node.call("GET", "/v1/plan/objects", {{"kind", kind}, {"name", name}});
  if (!body) return body.error();
  return body->at("objects").front();
}

Result<Secret> shown_secret(NodeClient& node, const char* key, const std::string& name) {
  const auto shown = node.post("/v1/plan/secret", {{key, name}, {"do", "show"}});
  if (!shown) return shown.error();
  return Secret(shown->value("secret", ""));
}

// Such a client's own address, if it has just one: the node knows clients by it.
std::string address_of_client(const json& client) {
  const auto prefix = Prefix::parse(client.value("resolved", client.value("address", "")));
  return prefix && prefix->length == prefix->address.bits() ? prefix->address.text() : "";
}

Result<Peer> as_client(const Arguments& arguments, const host::NodeSettings& settings, PortOf port) {
  const std::string name = arguments.get("--client");
  auto node = NodeClient::open(arguments);
  if (!node) return node.error();
  const auto client = object_of(*node, "client", name);
  if (!client) return client.error();
  const std::string from = arguments.get("--from", address_of_client(*client));
  if (from.empty())
    return fail(Errc::malformed,
                fmt::format("client '{}' has many addresses ({}): say with --from ADDRESS which "
                            "one of this machine to send from",
                            name, client->value("address", "")));
  auto secret = shown_secret(*node, "client", name);
  if (!secret) return secret.error();
  const Endpoint to = endpoint_of(settings, port, from);
  return Peer{to, from, std::move(*secret),
              fmt::format("node {} ({}) as client {} from {}", settings.name, to.text(), name, from)};
}

// That the node itself would send from.
std::string source_for(const Endpoint& to, const Arguments& arguments, const host::NodeSettings& settings) {
  std::string out = arguments.get("--from");
  for (const IpAddress& source : settings.send_from)
    if (out.empty() && source.family == to.address.family) out = source.text();
  return out;
}

// A client of the node, as the node would ask it.
Result<Peer> the_device(const Arguments& arguments, const host::NodeSettings& settings) {
  const std::string name = arguments.get("--client");
  auto node = NodeClient::open(arguments);
  if (!node) return node.error();
  const auto client = object_of(*node, "client", name);
  if (!client) return client.error();
  const std::string address = address_of_client(*client);
  if (address.empty())
    return fail(
        Errc::malformed,
        fmt::format("client '{}' has many addresses ({}): which one is it? --to ADDRESS with its secret",
                    name, client->value("address", "")));
  const auto to = resolve(address, client->value("authorization_port", default_port(PortOf::authorization)));
  if (!to) return to.error();
  auto secret = shown_secret(*node, "client", name);
  if (!secret) return secret.error();
  return Peer{*to, source_for(*to, arguments, settings), std::move(*secret),
              fmt::format("client {} ({}) as node {} does", name, to->text(), settings.name)};
}

Result<Peer> as_the_node(const Arguments& arguments, const host::NodeSettings& settings, PortOf port) {
  const std::string name = arguments.get("--server");
  auto node = NodeClient::open(arguments);
  if (!node) return node.error();
  auto secret = shown_secret(*node, "server", name);  // knows whether there is such a server
  if (!secret) return secret.error();
  const auto groups = node->call("GET", "/v1/plan/objects", {{"kind", "group"}});
  if (!groups) return groups.error();
  for (const json& group : groups->at("objects")) {
    for (const json& server : group.value("server", json::array())) {
      if (group.value("name", "") + "/" + server.value("name", "") != name) continue;
      const char* key = port == PortOf::access ? "access_port" : "accounting_port";
      const auto to = resolve(server.value("address", ""), server.value(key, default_port(port)));
      if (!to) return to.error();
      return Peer{*to, source_for(*to, arguments, settings), std::move(*secret),
                  fmt::format("server {} ({}) as node {} does", name, to->text(), settings.name)};
    }
  }
  return fail(Errc::not_found, fmt::format("server '{}' not found", escaped(name)));
}

Result<Peer> find_device(const Arguments& arguments) {
  if (arguments.has("--to") == arguments.has("--client"))
    return fail(Errc::malformed,
                "whom? One of --to HOST with a secret, and --client NAME with --node FILE or --lab NAME");
  if (arguments.has("--to")) return at_address(arguments, PortOf::authorization);
  const auto settings = find_node(arguments);
  if (!settings) return settings.error();
  return the_device(arguments, *settings);
}

}  // namespace

std::vector<Option> peer_options() {
  return {{"--to", "HOST[:PORT]", "the server to ask; default ports 1812 (access) and 1813 (accounting)"},
          {"--secret-file", "FILE", "file with the shared secret"},
          {"--secret", "TEXT", "the shared secret itself (a file is safer: shells keep a history)"},
          {"--lab", "NAME", "a node of the demo chain instead: edge, hub, reef-1, reef-2"},
          {"--node", "FILE", "the node of this node file instead, with --client or --server"},
          {"--client", "NAME",
           "ask that node as this client of its plan: address and secret are taken from there"},
          {"--server", "GROUP/NAME", "ask this server of that node's plan, as the node does"},
          {"--from", "ADDRESS", "local address to send from; default: the client's, or the system chooses"}};
}

std::vector<Option> device_options() {
  return {{"--to", "HOST[:PORT]", "the device; default port 3799"},
          {"--secret-file", "FILE", "file with the shared secret"},
          {"--secret", "TEXT", "the shared secret itself (a file is safer: shells keep a history)"},
          {"--client", "NAME", "a client of a node's plan instead: address and secret are taken from there"},
          {"--lab", "NAME", "that node, of the demo chain: edge, hub, reef-1, reef-2"},
          {"--node", "FILE", "or the one of this node file"},
          {"--from", "ADDRESS", "local address to send from; default: the node's, or the system chooses"}};
}

Result<Peer> find_played_device(const Arguments& arguments) {
  if (!arguments.has("--at") && !arguments.has("--client"))
    return fail(Errc::malformed,
                "which device? --client NAME with --node FILE or --lab NAME, or --at ADDRESS with a secret");
  const std::uint16_t usual = default_port(PortOf::authorization);
  if (!arguments.has("--client")) {
    const auto at = resolve(arguments.get("--at"), usual);
    if (!at) return at.error();
    auto secret = given_secret(arguments);
    if (!secret) return secret.error();
    return Peer{*at, "", std::move(*secret), "a device at " + at->text()};
  }
  const std::string name = arguments.get("--client");
  auto node = NodeClient::open(arguments);
  if (!node) return node.error();
  const auto client = object_of(*node, "client", name);
  if (!client) return client.error();
  const std::string address = address_of_client(*client);
  const auto at = resolve(arguments.get("--at", address.empty() ? "127.0.0.1" : address),
                          client->value("authorization_port", usual));
  if (!at) return at.error();
  auto secret = shown_secret(*node, "client", name);
  if (!secret) return secret.error();
  return Peer{*at, "", std::move(*secret), fmt::format("client {} at {}", name, at->text())};
}

Result<Peer> find_peer(const Arguments& arguments, PortOf port) {
  if (port == PortOf::authorization) return find_device(arguments);
  const bool by_plan = arguments.has("--client") || arguments.has("--server");
  const bool node = arguments.has("--lab") || arguments.has("--node") || by_plan;
  if (arguments.has("--to") == node || (arguments.has("--lab") && arguments.has("--node")))
    return fail(Errc::malformed,
                "whom? One of --to HOST with a secret, --node FILE with --client or --server, or --lab NAME");
  if (arguments.has("--to")) return at_address(arguments, port);
  const auto settings = find_node(arguments);
  if (!settings) return settings.error();
  if (arguments.has("--client") && arguments.has("--server"))
    return fail(Errc::malformed, "one of --client and --server");
  if (arguments.has("--client")) return as_client(arguments, *settings, port);
  if (arguments.has("--server")) return as_the_node(arguments, *settings, port);
  if (arguments.has("--lab")) return as_tester(arguments, *settings, port);
  return fail(Errc::malformed,
              "as whom? --client NAME, or --server GROUP/NAME to ask a server as the node does");
}

}  // namespace jembatan::cli
