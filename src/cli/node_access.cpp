#include "cli/node_access.h"

#include <fmt/format.h>
#include <httplib.h>

#include <csignal>
#include <cstdlib>
#include <nlohmann/json.hpp>
#include <regex>

#include "base/secret.h"
#include "base/text.h"
#include "bodies/problems.h"
#include "cli/clock_gap.h"
#include "document/parse.h"
#include "host/system.h"
#include "lab/hosts.h"
#include "lab/lab.h"

namespace jembatan::cli {

using nlohmann::json;

namespace {

std::unique_ptr<httplib::ClientImpl> connect(bool tls, const std::string& host, int port,
                                             const std::string& ca) {
  if (!tls) return std::make_unique<httplib::ClientImpl>(host, port);
  auto out = std::make_unique<httplib::SSLClient>(host, port);
  if (!ca.empty()) out->set_ca_cert_path(ca.c_str());
  return out;
}

struct Url {
  bool tls = false;
  std::string host;
  int port = 8812;
};

// "https://hub.strait.example:8812", "http://[::1]:8812"
std::optional<Url> parse_url(const std::string& text) {
  static const std::regex kUrl(R"((https?)://(\[([0-9A-Fa-f:.]+)\]|[A-Za-z0-9.-]+)(:([0-9]{1,5}))?/?)");
  std::smatch parts;
  if (!std::regex_match(text, parts, kUrl)) return std::nullopt;
  Url out{parts[1] == "https", parts[3].matched ? parts[3].str() : parts[2].str(), 8812};
  if (parts[5].matched) out.port = std::stoi(parts[5].str());
  return out;
}

}  // namespace

struct NodeClient::Connection {
  Connection(std::string node, std::string at, std::unique_ptr<httplib::ClientImpl> client,
             const Secret& token)
      : name(std::move(node)), address(std::move(at)), http(std::move(client)) {
    http->set_connection_timeout(3);
    http->set_read_timeout(3700);  // a capture may be quiet for an hour
    http->set_write_timeout(60);
    http->set_bearer_token_auth(std::string(text_of(token.reveal())).c_str());
  }
  std::string name;
  std::string address;
  std::unique_ptr<httplib::ClientImpl> http;
  std::string where;  ///< the network namespace that the node is in; empty: this one

  // Once, to standard error: what is said about times would mislead.
  void compare_clocks(const std::string& date, WallTime before) {
    const std::string gap = clock_gap(name, date, before, host::SystemClock().now().wall);
    if (!gap.empty() && !std::exchange(told_of_clocks, true)) Terminal().note(gap);
  }
  bool told_of_clocks = false;

  Error unreachable(httplib::Error error = httplib::Error::Connection) const {
    if (error == httplib::Error::SSLServerVerification || error == httplib::Error::SSLConnection) {
      const auto* tls = dynamic_cast<const httplib::SSLClient*>(http.get());
      const long why = tls == nullptr ? X509_V_OK : tls->get_openssl_verify_result();
      if (why == X509_V_ERR_CERT_HAS_EXPIRED)
        return fail(
            Errc::unreachable,
            fmt::format("node {} on {}: its certificate has expired: it needs a new one, named in its "
                        "node file, and a restart",
                        name, address));
      return fail(
          Errc::unreachable,
          fmt::format("node {} on {}: its certificate does not verify{}: name the authority's "
                      "with --ca FILE, and the node as the certificate does",
                      name, address,
                      why == X509_V_OK ? "" : fmt::format(" ({})", X509_verify_cert_error_string(why))));
    }
    if (error == httplib::Error::Write)
      return fail(Errc::not_allowed,
                  fmt::format("node {} broke off while it was told: too much, or not allowed", name));
    return fail(Errc::unreachable,
                fmt::format("node {} does not answer on {}: is jembatand running?", name, address));
  }
};

IpAddress reachable(const IpAddress& address) {
  return address.unspecified() ? *IpAddress::parse(address.family == Family::v4 ? "127.0.0.1" : "::1")
                               : address;
}

std::vector<Option> node_options() {
  return {
      {"--node", "FILE",
       "node file of the server to talk to; default: the environment variable JEMBATAN_NODE"},
      {"--lab", "NAME", "a node of the demo chain instead: edge, hub, reef-1, reef-2"},
      {"--url", "URL", "a node elsewhere instead, like https://hub.strait.example:8812"},
      {"--token-file", "FILE", "file with the token to use; default: the node's own"},
      {"--ca", "FILE", "certificate (PEM) that the node's is checked with; default: the node file's own"}};
}

std::vector<Option> reading_options(std::vector<Option> own) {
  for (Option& option : node_options()) own.push_back(std::move(option));
  own.push_back({"--json", "", "one JSON document instead of text"});
  return own;
}

Result<host::NodeSettings> find_node(const Arguments& arguments) {
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
  auto settings = host::read_node_file(file, problems);
  if (!settings)
    return fail(Errc::malformed, "the node file has " + problems.count_text() + "\n" + problems.text());
  if (arguments.has("--lab")) lab::put_in_front(*settings);
  return *settings;
}

NodeClient::NodeClient(std::unique_ptr<Connection> connection) : connection_(std::move(connection)) {}
NodeClient::NodeClient(NodeClient&&) noexcept = default;
NodeClient::~NodeClient() = default;

Result<NodeClient> NodeClient::open(const Arguments& arguments) {
  const auto token_in = [](const std::filesystem::path& file, const std::string& whose) -> Result<Secret> {
    const auto text = document::read_file(file);
    if (!text) return text.error().at(whose);
    return Secret(trim(*text));
  };
  if (arguments.has("--url")) {
    const auto url = parse_url(arguments.get("--url"));
    if (!url)
      return fail(Errc::malformed,
                  fmt::format("--url '{}'; allowed: https://HOST:PORT", arguments.get("--url")));
    if (!arguments.has("--token-file")) return fail(Errc::malformed, "--url needs --token-file FILE");
    const auto token = token_in(arguments.get("--token-file"), "--token-file");
    if (!token) return token.error();
    return NodeClient(
        std::make_unique<Connection>(url->host, arguments.get("--url"),
                                     connect(url->tls, url->host, url->port, arguments.get("--ca")), *token));
  }
  const auto node = find_node(arguments);
  if (!node) return node.error();
  const auto token = token_in(arguments.get("--token-file", node->token_file.string()),
                              fmt::format("token of node {} (made when jembatand first starts)", node->name));
  if (!token) return token.error();
  const std::string host = reachable(node->management.address).text();
  auto connection =
      std::make_unique<Connection>(node->name, node->management.text(),
                                   connect(!node->certificate.empty(), host, node->management.port,
                                           arguments.get("--ca", node->certificate.string())),
                                   *token);
  if (arguments.has("--lab")) connection->where = lab::namespace_of(arguments.get("--lab"));
  return NodeClient(std::move(connection));
}

Result<json> NodeClient::call(std::string_view method, const std::string& path,
                              const std::vector<std::pair<std::string, std::string>>& query) {
  return call_with(method, path, query, "");
}

// A node may refuse before it has read the whole body: that must not end this program.
Result<json> NodeClient::post(const std::string& path, const json& body) {
  struct Ignored {
    Ignored() : before(std::signal(SIGPIPE, SIG_IGN)) {}
    ~Ignored() { std::signal(SIGPIPE, before); }
    void (*before)(int);
  } const pipe_signal;
  return call_with("POST", path, {}, body.dump());
}

Result<json> NodeClient::call_with(std::string_view method, const std::string& path,
                                   const std::vector<std::pair<std::string, std::string>>& query,
                                   const std::string& sent) {
  httplib::Params params(query.begin(), query.end());
  const std::string target = params.empty() ? path : httplib::append_query_params(path, params);
  const WallTime before = host::SystemClock().now().wall;
  const lab::InNamespace there(connection_->where);
  const auto result = method == "POST" ? connection_->http->Post(target, sent, "application/json")
                                       : connection_->http->Get(target);
  if (!result) return connection_->unreachable(result.error());
  connection_->compare_clocks(result->get_header_value("Date"), before);
  const json body = json::parse(result->body, nullptr, false);
  if (result->status == 200 && !body.is_discarded()) return body;
  const std::string detail = body.is_object() ? body.value("detail", "") : "";
  const std::string text = detail.empty() ? fmt::format("node {} answers {} to {} {}", connection_->name,
                                                        result->status, method, path)
                                          : detail;
  switch (result->status) {
    case 404:
      return fail(Errc::not_found, text);
    case 409:
      return fail(Errc::conflict, text);
    case 422:
      return fail(Errc::malformed, bodies::problems_in(body).text() + text);
    case 400:
      return fail(Errc::malformed, text);
    default:
      return fail(Errc::not_allowed, text);
  }
}

Status NodeClient::fetch(const std::string& path,
                         const std::vector<std::pair<std::string, std::string>>& query,
                         const std::function<bool(std::string_view)>& take) {
  const std::string target = httplib::append_query_params(path, httplib::Params(query.begin(), query.end()));
  int status = 0;
  std::string refusal;
  const lab::InNamespace there(connection_->where);
  const auto result = connection_->http->Get(
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
  if (status == 400 && body.is_object()) return fail(Errc::malformed, body.value("detail", ""));
  return fail(Errc::not_allowed, fmt::format("node {} answers {}: {}", connection_->name, status,
                                             body.is_object() ? body.value("detail", "") : "nothing more"));
}

Status NodeClient::follow(const std::string& where, const std::function<bool(const json&)>& take) {
  std::string waiting;
  bool ended = false;
  std::vector<std::pair<std::string, std::string>> query;
  if (!where.empty()) query.emplace_back("where", where);
  const Status fetched = fetch("/v1/events", query, [&](std::string_view piece) {
    waiting.append(piece);
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
  if (!fetched || ended) return fetched;
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
