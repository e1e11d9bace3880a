#include "cli/known_nodes.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"
#include "cli/node_access.h"
#include "cli/shared_nodes.h"
#include "document/parse.h"
#include "document/reading.h"
#include "document/write.h"
#include "lab/lab.h"

namespace jembatan::cli {
namespace {

namespace fs = std::filesystem;
using document::Entry;
using document::Field;
using document::Need;
using document::Reading;

/// As the file has it: by its node file on this machine, or by its URL.
struct Written {
  std::string name;
  std::string node;
  std::string url;
  std::string token_file;
  std::string ca;
};

const Field<Written> kFields[] = {
    {"name", Need::required, "what the node is called",
     [](Reading& r, const Entry& e, Written& w) { w.name = r.text(e).value_or(""); }},
    {"node", Need::optional, "its node file, on this machine",
     [](Reading& r, const Entry& e, Written& w) { w.node = r.text(e).value_or(""); }},
    {"url", Need::optional, "or where its management API is",
     [](Reading& r, const Entry& e, Written& w) { w.url = r.text(e).value_or(""); }},
    {"token_file", Need::optional, "with a file that holds a token of it",
     [](Reading& r, const Entry& e, Written& w) { w.token_file = r.text(e).value_or(""); }},
    {"ca", Need::optional, "and the certificate (PEM) that its own is checked with",
     [](Reading& r, const Entry& e, Written& w) { w.ca = r.text(e).value_or(""); }},
};

fs::path nodes_file() {
  if (const char* named = std::getenv("JEMBATAN_NODES")) return fs::absolute(named);
  if (const char* config = std::getenv("XDG_CONFIG_HOME"))
    return fs::path(config) / "jembatan" / "nodes.toml";
  const char* home = std::getenv("HOME");
  return fs::path(home == nullptr ? "/tmp" : home) / ".config" / "jembatan" / "nodes.toml";
}

Result<std::vector<Written>> read_nodes() {
  const fs::path file = nodes_file();
  std::vector<Written> out;
  if (!fs::exists(file)) return out;
  const auto text = document::read_file(file);
  if (!text) return text.error();
  document::Problems problems;
  const auto parsed = document::parse(file.string(), *text, problems);
  if (parsed) {
    Reading reading(*parsed, problems);
    for (const Entry& section : parsed->root.entries) {
      if (section.key != "node" || section.value.kind != document::Kind::array) {
        reading.unknown_key(section, "the file of nodes", {"[[node]]"});
        continue;
      }
      for (const document::Value& table : section.value.items)
        document::read_fields(reading, table, "a node", std::span<const Field<Written>>(kFields),
                              out.emplace_back());
    }
  }
  if (problems.errors() > 0) return fail(Errc::malformed, problems.text() + problems.count_text());
  return out;
}

Status write_nodes(const std::vector<Written>& nodes) {
  const fs::path file = nodes_file();
  std::error_code failed;
  fs::create_directories(file.parent_path(), failed);
  std::string text = "# The nodes that jembatan journal show --across looks for a request at.\n";
  for (const Written& node : nodes) {
    document::Value table = document::table_value();
    const auto add = [&table](std::string_view key, const std::string& value) {
      if (!value.empty()) document::set_entry(table, key, document::text_value(value));
    };
    add("name", node.name);
    add("node", node.node);
    add("url", node.url);
    add("token_file", node.token_file);
    add("ca", node.ca);
    text += "\n" + document::section_text("[[node]]", table);
  }
  const fs::path next = file.string() + ".next";
  std::ofstream out(next, std::ios::binary | std::ios::trunc);
  out << text;
  out.close();
  if (!out) return fail(Errc::io, fmt::format("file '{}' cannot be written", file.string()));
  fs::rename(next, file, failed);
  return failed ? Status{fail(Errc::io, fmt::format("file '{}': {}", file.string(), failed.message()))}
                : Status{};
}

KnownNode known(const Written& node) {
  KnownNode out{node.name, {}};
  const auto set = [&out](const char* option, const std::string& value) {
    if (!value.empty()) out.options.set(option, value);
  };
  set("--node", node.node);
  set("--url", node.url);
  set("--token-file", node.token_file);
  set("--ca", node.ca);
  return out;
}

Exit add_node(const Arguments& arguments, Terminal& terminal) {
  auto nodes = read_nodes();
  if (!nodes) return report(nodes.error(), terminal);
  Written added;
  added.name = arguments.positionals().front();
  const auto absolute = [&arguments](const char* option) {
    return arguments.has(option) ? fs::absolute(arguments.get(option)).string() : std::string();
  };
  added.node = absolute("--node");
  added.url = arguments.get("--url");
  added.token_file = absolute("--token-file");
  added.ca = absolute("--ca");
  if (added.node.empty() == added.url.empty())
    return report(
        fail(Errc::malformed, "where is it? One of --node FILE and --url URL with --token-file FILE"),
        terminal);
  const auto reached = NodeClient::open(known(added).options);
  if (!reached) return report(reached.error(), terminal);
  std::erase_if(*nodes, [&](const Written& one) { return one.name == added.name; });
  nodes->push_back(added);
  if (const Status written = write_nodes(*nodes); !written) return report(written.error(), terminal);
  terminal.line(fmt::format("node {} is known, by {}", added.name, nodes_file().string()));
  return Exit::done;
}

Exit list_nodes(const Arguments& arguments, Terminal& terminal) {
  if (arguments.has("--node") || arguments.has("--lab") || arguments.has("--url"))
    return list_shared_nodes(arguments, terminal);
  const auto nodes = read_nodes();
  if (!nodes) return report(nodes.error(), terminal);
  if (arguments.has("--json")) {
    nlohmann::json list = nlohmann::json::array();
    for (const Written& node : *nodes)
      list.push_back({{"name", node.name},
                      {"node", node.node},
                      {"url", node.url},
                      {"token_file", node.token_file},
                      {"ca", node.ca}});
    terminal.line(nlohmann::json{{"nodes", list}}.dump(2));
    return Exit::done;
  }
  if (nodes->empty()) {
    terminal.line("no nodes are known; to add one: jembatan node add NAME --url URL --token-file FILE");
    return Exit::done;
  }
  Table table({"node", "at", "token file"});
  for (const Written& node : *nodes)
    table.add({node.name, node.url.empty() ? node.node : node.url,
               node.token_file.empty() ? "-" : node.token_file});
  terminal.table(table);
  return Exit::done;
}

Exit forget_node(const Arguments& arguments, Terminal& terminal) {
  auto nodes = read_nodes();
  if (!nodes) return report(nodes.error(), terminal);
  const std::string& name = arguments.positionals().front();
  if (std::erase_if(*nodes, [&](const Written& one) { return one.name == name; }) == 0)
    return report(fail(Errc::not_found, fmt::format("node '{}' is not known", escaped(name))), terminal);
  if (const Status written = write_nodes(*nodes); !written) return report(written.error(), terminal);
  terminal.line(fmt::format("node {} is not known any more", name));
  return Exit::done;
}

}  // namespace

Result<std::vector<KnownNode>> known_nodes(const Arguments& arguments) {
  std::vector<KnownNode> out;
  if (arguments.has("--lab")) {
    for (const std::string& name : lab::node_names()) {
      out.push_back({name, {}});
      out.back().options.set("--lab", name);
    }
    return out;
  }
  const auto written = read_nodes();
  if (!written) return written.error();
  for (const Written& node : *written) out.push_back(known(node));
  return out;
}

std::vector<Command> known_node_commands() {
  return {{"node add",
           "Remember a node, for commands that look at several hops (journal show --across)",
           "jembatan node add hub --url https://hub.strait.example:8812 --token-file wulan.token --ca "
           "strait-ca.pem",
           {{"--node", "FILE", "its node file, if it is on this machine"},
            {"--url", "URL", "where its management API is"},
            {"--token-file", "FILE", "file with a token of it"},
            {"--ca", "FILE", "certificate (PEM) that the node's is checked with"}},
           {"NAME", "what to call it", true, false},
           add_node},
          {"node list",
           "List the nodes that are remembered, or, of a node that is named, those that share its database",
           "jembatan node list --lab hub",
           reading_options(),
           {},
           list_nodes},
          {"node forget",
           "Forget a node",
           "jembatan node forget hub",
           {},
           {"NAME", "as node list calls it", true, false},
           forget_node}};
}

}  // namespace jembatan::cli
