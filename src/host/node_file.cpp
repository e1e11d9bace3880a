#include "host/node_file.h"

#include <fmt/format.h>

#include <array>
#include <cstdlib>

#include "base/text.h"
#include "document/parse.h"
#include "document/reading.h"

namespace jembatan::host {
namespace {

using namespace std::chrono_literals;
using document::Entry;
using document::Field;
using document::Kind;
using document::Need;
using document::Reading;

constexpr std::uint16_t kAccessPort = 1812;         // RFC 2865 §3
constexpr std::uint16_t kAccountingPort = 1813;     // RFC 2866 §3
constexpr std::uint16_t kAuthorizationPort = 3799;  // RFC 5176 §2.3
constexpr std::uint16_t kManagementPort = 8812;
constexpr std::array<std::string_view, 2> kFormats{"text", "json"};
constexpr std::array<std::string_view, 4> kLevels{"debug", "info", "warning", "error"};

std::vector<Endpoint> endpoints(Reading& r, const Entry& e, std::uint16_t port) {
  std::vector<Endpoint> out;
  for (const std::string& text : r.texts(e)) {
    if (const auto endpoint = Endpoint::parse(text, port)) {
      out.push_back(*endpoint);
    } else {
      r.wrong(e, fmt::format("'{}': {}", e.key, endpoint.error().text));
    }
  }
  return out;
}

void read_send_from(Reading& r, const Entry& e, NodeSettings& node) {
  for (const std::string& text : r.texts(e)) {
    if (const auto address = IpAddress::parse(text)) {
      node.send_from.push_back(*address);
    } else {
      r.wrong(e, fmt::format("'{}': {}", e.key, address.error().text));
    }
  }
}

void read_management_address(Reading& r, const Entry& e, NodeSettings& node) {
  const auto text = r.text(e);
  if (!text) return;
  const auto endpoint = Endpoint::parse(*text, kManagementPort);
  if (endpoint) {
    node.management = *endpoint;
  } else {
    r.wrong(e, fmt::format("'{}': {}", e.key, endpoint.error().text));
  }
}

// Off the machine itself, tokens and secrets travel encrypted or not at all.
void read_management(Reading& r, const Entry& e, NodeSettings& node);

const Field<NodeSettings> kListen[] = {
    {"access", Need::optional, "addresses for access; default 127.0.0.1:1812 and [::1]:1812",
     [](Reading& r, const Entry& e, NodeSettings& n) { n.access = endpoints(r, e, kAccessPort); }},
    {"accounting", Need::optional, "addresses for accounting; default 127.0.0.1:1813 and [::1]:1813",
     [](Reading& r, const Entry& e, NodeSettings& n) { n.accounting = endpoints(r, e, kAccountingPort); }},
    {"authorization", Need::optional,
     "addresses for Disconnect- and CoA-Requests of clients (RFC 5176), port 3799; default: none",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.authorization = endpoints(r, e, kAuthorizationPort);
     }},
};

const Field<NodeSettings> kManagement[] = {
    {"address", Need::optional,
     "address of the management API; default 127.0.0.1:8812; any other than loopback needs certificate and "
     "key",
     read_management_address},
    {"token_file", Need::optional,
     "file with the bearer token, made if it is not there; default DATA/management.token",
     [](Reading& r, const Entry& e, NodeSettings& n) { n.token_file = r.text(e).value_or(""); }},
    {"certificate", Need::optional, "file with the certificate chain (PEM): the API is then HTTPS",
     [](Reading& r, const Entry& e, NodeSettings& n) { n.certificate = r.text(e).value_or(""); }},
    {"key", Need::optional, "file with the certificate's private key (PEM)",
     [](Reading& r, const Entry& e, NodeSettings& n) { n.private_key = r.text(e).value_or(""); }},
};

const Field<NodeSettings> kLog[] = {
    {"format", Need::optional, "text (default) or json, one line per decision, to standard error",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.log_format = r.choice(e, kFormats).value_or(0) == 0 ? LogFormat::text : LogFormat::json;
     }},
    {"level", Need::optional, "debug, info (default), warning or error",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.log_level = kLevels[r.choice(e, kLevels).value_or(1)];
     }},
};

const Field<NodeSettings> kJournal[] = {
    {"keep", Need::optional, "how long requests are kept, 1m to 365d; default 7d; 0s: there is no journal",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       const bool none = e.value.kind == Kind::text && e.value.text == "0s";
       n.journal.keep = none ? 0s : r.duration(e, 60s, 365 * 24h).value_or(7 * 24h);
     }},
    {"megabytes", Need::optional, "how much they may take, 1 to 1000000; default 256; the oldest go first",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.journal.most_octets = static_cast<std::uint64_t>(r.integer(e, 1, 1000000).value_or(256)) << 20U;
     }},
};

const Field<NodeSettings> kAccounting[] = {
    {"keep", Need::optional, "how long records and sessions are kept, 2d to 36500d; for ever by default",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.housekeeping.keep =
           std::chrono::duration_cast<std::chrono::hours>(r.duration(e, 48h, 36500 * 24h).value_or(0s));
     }},
    {"megabytes", Need::optional,
     "how much they may take, 10 to 100000000; without bound by default; the oldest days go first",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.housekeeping.most_octets = static_cast<std::uint64_t>(r.integer(e, 10, 100000000).value_or(0))
                                    << 20U;
     }},
    {"session_silence", Need::optional,
     "how long nothing may be heard of a session until its Stop counts as lost, 5m to 365d; default 1d",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.housekeeping.silence.most =
           std::chrono::duration_cast<std::chrono::seconds>(r.duration(e, 5min, 365 * 24h).value_or(24h));
     }},
    {"silent_intervals", Need::optional,
     "or so many times as long as its interim records were apart, 2 to 100; default 3",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.housekeeping.silence.intervals = static_cast<unsigned>(r.integer(e, 2, 100).value_or(3));
     }},
};

// It may have a password, so it may stand in a file that only the server reads.
void read_shared_database(Reading& r, const Entry& e, NodeSettings& node) {
  if (e.value.kind == Kind::text) {
    node.shared_database = Secret(e.value.text);
    return;
  }
  const bool is_file = e.value.kind == Kind::table && e.value.entries.size() == 1 &&
                       e.value.entries.front().key == "file" &&
                       e.value.entries.front().value.kind == Kind::text;
  if (!is_file)
    return r.wrong(e, "'database' is no connection string",
                   "\"postgresql://…\", or { file = \"PATH\" } with one in it");
  std::filesystem::path path = e.value.entries.front().value.text;
  if (path.is_relative()) path = std::filesystem::path(r.file().name).parent_path() / path;
  auto text = document::read_file(path.string());
  if (!text)
    return r.wrong(e, fmt::format("'database': {}", text.error().text), "a file with a connection string");
  while (!text->empty() && (text->back() == '\n' || text->back() == ' ')) text->pop_back();
  node.shared_database = Secret(*text);
  wipe(OctetSpan(reinterpret_cast<std::uint8_t*>(text->data()), text->size()));
}

void read_shared_plan(Reading& r, const Entry& e, NodeSettings& node) {
  constexpr std::size_t kLongest = 100;
  node.shared_plan = r.text(e).value_or("");
  if (node.shared_plan.empty() || node.shared_plan.size() > kLongest ||
      !is_plain_text(view_of(node.shared_plan)))
    r.wrong(e, "'plan' is no name", "1 to 100 octets of plain text, like \"hub\"");
  if (!node.plan_folder.empty())
    r.wrong(e, "a plan that is read from a folder cannot be shared",
            "one of plan_folder and [shared] plan: a shared plan is changed by commands");
}

const Field<NodeSettings> kShared[] = {
    {"database", Need::required,
     "where nodes share their accounting: a connection string of PostgreSQL, \"postgresql://…\", or { file = "
     "\"PATH\" } with one in it",
     read_shared_database},
    {"plan", Need::optional,
     "what the plan is called that this node shares with others in that database; default: the plan is its "
     "own",
     read_shared_plan},
    {"take_over_after", Need::optional,
     "a node of that plan that was not seen for so long: what waits there is sent on by the others, 5s to a "
     "day; "
     "default 2m",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.take_over_after =
           std::chrono::duration_cast<std::chrono::seconds>(r.duration(e, 5s, 24h).value_or(2min));
     }},
};

template <std::size_t N>
void read_section(Reading& r, const Entry& e, const Field<NodeSettings> (&fields)[N], NodeSettings& node) {
  if (r.expect(e, Kind::table)) document::read_fields<NodeSettings>(r, e.value, e.key, fields, node);
}

void read_management(Reading& r, const Entry& e, NodeSettings& node) {
  read_section(r, e, kManagement, node);
  if (node.certificate.empty() != node.private_key.empty()) {
    r.wrong(e, "'management' has one of certificate and key", "both or none of them");
  } else if (!node.management.address.loopback() && node.certificate.empty()) {
    r.wrong(e, fmt::format("'management' is to listen on {} without TLS", node.management.text()),
            "a loopback address, like 127.0.0.1:8812, or certificate and key besides");
  }
}

const Field<NodeSettings> kNode[] = {
    {"name", Need::required, "the node's name",
     [](Reading& r, const Entry& e, NodeSettings& n) { n.name = r.text(e).value_or(""); }},
    {"plan_folder", Need::optional,
     "folder with the plan's *.toml files; without it the plan is changed by commands",
     [](Reading& r, const Entry& e, NodeSettings& n) { n.plan_folder = r.text(e).value_or(""); }},
    {"data_folder", Need::required, "folder for what the node keeps; made if it is not there",
     [](Reading& r, const Entry& e, NodeSettings& n) { n.data_folder = r.text(e).value_or(""); }},
    {"key_file", Need::optional,
     "file with the key that secrets in the store are sealed with, made if it is not there; default "
     "DATA/node.key, or the systemd credential jembatan-node-key",
     [](Reading& r, const Entry& e, NodeSettings& n) { n.key_file = r.text(e).value_or(""); }},
    {"workers", Need::optional,
     "threads that handle requests, 0 to 256; default 0: one a processor that it may use",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.workers = static_cast<int>(r.integer(e, 0, 256).value_or(0));
     }},
    {"send_from", Need::optional,
     "source addresses of forwarded requests, like [\"192.0.2.1\"]; default: the system chooses",
     read_send_from},
    {"stop_within", Need::optional,
     "how long a stop waits for answers that are under way, 0s to 5m; default 5s",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.stop_within = r.duration(e, 0s, 300s).value_or(5s);
     }},
    {"group_share", Need::optional,
     "how much of what may wait for servers one group may hold, in percent, 1 to 100; default 50: one whose "
     "servers are silent leaves the rest to the others",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.group_share = static_cast<unsigned>(r.integer(e, 1, 100).value_or(50));
     }},
    {"client_share", Need::optional,
     "how much of what may wait for servers one client may hold, in percent, 1 to 100; default 50",
     [](Reading& r, const Entry& e, NodeSettings& n) {
       n.client_share = static_cast<unsigned>(r.integer(e, 1, 100).value_or(50));
     }},
    {"core_dumps", Need::optional,
     "true: when the server breaks off, the system may write its memory, with its secrets, to the disk; "
     "default "
     "false",
     [](Reading& r, const Entry& e, NodeSettings& n) { n.core_dumps = r.boolean(e).value_or(false); }},
    {"listen", Need::optional, "where requests are received",
     [](Reading& r, const Entry& e, NodeSettings& n) { read_section(r, e, kListen, n); }},
    {"management", Need::optional, "the management API",
     [](Reading& r, const Entry& e, NodeSettings& n) { read_management(r, e, n); }},
    {"log", Need::optional, "the log",
     [](Reading& r, const Entry& e, NodeSettings& n) { read_section(r, e, kLog, n); }},
    {"journal", Need::optional, "the journal of recent requests",
     [](Reading& r, const Entry& e, NodeSettings& n) { read_section(r, e, kJournal, n); }},
    {"accounting", Need::optional, "what is kept of accounting",
     [](Reading& r, const Entry& e, NodeSettings& n) { read_section(r, e, kAccounting, n); }},
    {"shared", Need::optional, "the database that several nodes share",
     [](Reading& r, const Entry& e, NodeSettings& n) { read_section(r, e, kShared, n); }},
};

// systemd hands credentials over in a folder that only the service can read (systemd.exec(5)).
std::filesystem::path default_key_file(const std::filesystem::path& data_folder) {
  const char* credentials = std::getenv("CREDENTIALS_DIRECTORY");
  if (credentials != nullptr) {
    std::error_code ignored;
    const auto file = std::filesystem::path(credentials) / "jembatan-node-key";
    if (std::filesystem::exists(file, ignored)) return file;
  }
  return data_folder / "node.key";
}

NodeSettings defaults() {
  NodeSettings out;
  const auto both = [](std::uint16_t port) {
    return std::vector<Endpoint>{*Endpoint::parse("127.0.0.1", port), *Endpoint::parse("::1", port)};
  };
  out.access = both(kAccessPort);
  out.accounting = both(kAccountingPort);
  out.management = *Endpoint::parse("127.0.0.1", kManagementPort);
  return out;
}

}  // namespace

std::optional<NodeSettings> read_node_file(const std::filesystem::path& path, document::Problems& problems) {
  const auto text = document::read_file(path);
  if (!text) {
    problems.add({document::Level::error, path.string(), {}, text.error().text, "a node file", "", 1});
    return std::nullopt;
  }
  const auto file = document::parse(path.string(), *text, problems);
  if (!file) return std::nullopt;
  NodeSettings out = defaults();
  Reading reading(*file, problems);
  document::read_fields<NodeSettings>(reading, file->root, "the node file", kNode, out);
  if (problems.errors() > 0) return std::nullopt;
  out.file = std::filesystem::absolute(path).lexically_normal();
  const std::filesystem::path folder = out.file.parent_path();
  const auto below = [&folder](std::filesystem::path& named) {
    if (!named.empty()) named = (folder / named).lexically_normal();
  };
  below(out.plan_folder);
  below(out.certificate);
  below(out.private_key);
  below(out.key_file);
  out.data_folder = (folder / out.data_folder).lexically_normal();
  if (out.key_file.empty()) out.key_file = default_key_file(out.data_folder);
  out.token_file = out.token_file.empty() ? out.data_folder / "management.token" : folder / out.token_file;
  return out;
}

std::vector<std::pair<std::string, std::string_view>> node_key_meanings() {
  std::vector<std::pair<std::string, std::string_view>> out;
  const auto add = [&out](std::string_view section, std::span<const Field<NodeSettings>> fields) {
    for (const auto& field : fields)
      out.emplace_back(fmt::format("{}{}", section, field.name), field.meaning);
  };
  add("", kNode);
  add("listen.", kListen);
  add("management.", kManagement);
  add("log.", kLog);
  add("journal.", kJournal);
  add("accounting.", kAccounting);
  add("shared.", kShared);
  return out;
}

}  // namespace jembatan::host
