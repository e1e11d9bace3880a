#include "lab/lab.h"

#include <fmt/format.h>
#include <signal.h>

#include <algorithm>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "document/parse.h"
#include "lab/database.h"
#include "lab/fault.h"
#include "lab/hosts.h"
#include "lab/people.h"
#include "lab/processes.h"
#include "lab/relay.h"
#include "lab/world.h"

namespace jembatan::lab {
namespace {

using namespace std::chrono_literals;
namespace fs = std::filesystem;

constexpr std::string_view kHub = "hub";

fs::path program() {
  std::error_code failed;
  const fs::path self = fs::read_symlink("/proc/self/exe", failed);
  for (const fs::path& candidate :
       {self.parent_path() / "jembatand", self.parent_path() / "../sbin/jembatand"}) {
    if (fs::exists(candidate, failed)) return candidate.lexically_normal();
  }
  return "jembatand";
}

Process process_of_node(const fs::path& node) {
  return {node / "process", (node / "node.toml").string()};
}

Process relay_process() {
  return {folder() / "stand-ins.process", folder().string()};
}

// A node writes its process number into its lock file when it is up.
bool is_up(const host::NodeSettings& settings, int process) {
  std::ifstream in(settings.data_folder / "lock");
  int written = 0;
  return (in >> written) && written == process;
}

Status start_and_wait(const fs::path& node) {
  document::Problems problems;
  const auto settings = host::read_node_file(node / "node.toml", problems);
  if (!settings) return fail(Errc::malformed, problems.text());
  const fs::path log = node / "log";
  std::vector<std::string> words{program().string(), "--node", (node / "node.toml").string()};
  if (const std::string there = namespace_of(node.filename().string()); !there.empty())
    words.insert(words.begin(), {"ip", "netns", "exec", there});
  const auto process = start(words, log, process_of_node(node));
  if (!process) return process.error();
  return wait_until_up(*process, "node " + settings->name, log, [&] { return is_up(*settings, *process); });
}

using Faults = std::map<std::string, std::string>;  // by node

Faults faults_in(const char* file) {
  Faults out;
  const auto text = document::read_file((folder() / file).string());
  if (!text) return out;
  const auto body = nlohmann::json::parse(*text, nullptr, false);
  if (!body.is_object()) return out;
  for (const auto& [node, fault] : body.items())
    if (fault.is_string()) out[node] = fault.get<std::string>();
  return out;
}

// Written whole or not at all; returns when the stand-ins have taken it up.
Status write_faults(const Faults& faults) {
  const fs::path file = folder() / kFaultsFile;
  const fs::path next = folder() / "faults.next";
  std::ofstream(next, std::ios::trunc) << nlohmann::json(faults).dump() << "\n";
  std::error_code failed;
  fs::rename(next, file, failed);
  if (failed) return fail(Errc::io, fmt::format("file '{}': {}", file.string(), failed.message()));
  // Again and again, for it may not listen for the signal yet.
  const auto taken_up = [&] {
    if (const int relay = running(relay_process()); relay != 0) ::kill(relay, SIGHUP);
    return faults_in(kTakenUpFile) == faults;
  };
  if (wait_for(5s, taken_up)) return {};
  return fail(Errc::conflict, "the lab's stand-ins do not answer: jembatan lab up starts them");
}

Status start_relay() {
  const Process process = relay_process();
  if (running(process) != 0) return {};
  std::error_code failed;
  const std::string self = fs::read_symlink("/proc/self/exe", failed).string();
  fs::remove(folder() / kTakenUpFile, failed);
  if (!fs::exists(folder() / kFaultsFile)) std::ofstream(folder() / kFaultsFile) << "{}\n";
  const fs::path log = folder() / "stand-ins.log";
  const auto started = start({self, "lab", "stand-ins", folder().string()}, log, process);
  if (!started) return started.error();
  return wait_until_up(*started, "the lab's stand-ins", log,
                       [] { return fs::exists(folder() / kTakenUpFile); });
}

std::string first_text(const std::vector<Endpoint>& endpoints) {
  return endpoints.empty() ? "none" : endpoints.front().text();
}

Status tell_of_database() {
  for (const std::string& name : node_names()) {
    std::ofstream out(folder() / name / "node.toml", std::ios::app);
    out << "\n[shared]\ndatabase = \"" << database_of_lab() << "\"\n";
    if (name.starts_with(kHub)) out << "plan = \"" << kHub << "\"\ntake_over_after = \"20s\"\n";
    out.close();
    if (!out) return fail(Errc::io, "the lab's folder cannot be written");
  }
  return {};
}

Status make(const Wish& wish) {
  const Status written =
      write_demo(folder(), {wish.free_ports, wish.hosts, wish.shared, wish.directory, wish.factors});
  if (!written) return written;
  if (wish.directory)
    if (const Status made = make_directory(); !made) return made;
  if (!wish.shared) return {};
  const Status made = make_database();
  return made ? tell_of_database() : made;
}

Status made_with(bool wanted, bool has, std::string_view option) {
  if (!wanted || has) return {};
  return fail(Errc::conflict,
              fmt::format("the lab was made without {}: jembatan lab up {} --fresh", option, option));
}

}  // namespace

fs::path folder() {
  if (const char* named = std::getenv("JEMBATAN_LAB")) return fs::absolute(named);
  if (const char* state = std::getenv("XDG_STATE_HOME")) return fs::path(state) / "jembatan" / "lab";
  const char* home = std::getenv("HOME");
  return fs::path(home == nullptr ? "/tmp" : home) / ".local" / "state" / "jembatan" / "lab";
}

std::vector<std::string> node_names() {
  std::error_code failed;
  if (fs::exists(folder() / kSecondHub, failed))
    return {"edge", "hub", std::string(kSecondHub), "reef-1", "reef-2"};
  return {"edge", "hub", "reef-1", "reef-2"};
}

Status up(const Wish& wish) {
  const fs::path root = folder();
  if (wish.fresh) {
    if (const auto stopped = down(); !stopped) return stopped.error();
    std::error_code failed;
    // Only what a lab has made is removed: the folder may be named by the environment.
    for (const std::string& name : node_names()) fs::remove_all(root / name, failed);
    fs::remove(root / kHostsFile, failed);
    if (const Status removed = remove_database(); !removed) return removed;
    if (const Status removed = remove_directory(); !removed) return removed;
    if (failed) return fail(Errc::io, fmt::format("folder '{}': {}", root.string(), failed.message()));
  }
  if (wish.hosts && wish.directory)
    return fail(Errc::conflict, "--directory and --hosts: the directory is no machine of its own");
  if (!fs::exists(root / "edge" / "node.toml"))
    if (const Status s = make(wish); !s) return s;
  if (const Status s = made_with(wish.shared, has_database(), "--shared"); !s) return s;
  if (const Status s = made_with(wish.hosts, has_hosts(), "--hosts"); !s) return s;
  if (const Status s = made_with(wish.directory, has_directory(), "--directory"); !s) return s;
  const bool has_factors = fs::exists(root / kHub / "plan" / "factors.toml");
  if (const Status s = made_with(wish.factors, has_factors, "--factors"); !s) return s;
  if (has_database())
    if (const Status s = start_database(); !s) return s;
  if (has_directory())
    if (const Status s = start_directory(); !s) return s;
  if (has_hosts())
    if (const Status s = make_hosts(); !s) return s;
  if (const Status s = start_relay(); !s) return s;
  if (const Status s = write_faults({}); !s) return s;
  std::vector<std::string> names = node_names();
  std::reverse(names.begin(), names.end());
  for (const std::string& name : names) {
    if (name == kSecondHub || running(process_of_node(root / name)) != 0) continue;
    if (const Status s = start_and_wait(root / name); !s) return s;
  }
  return {};
}

Result<bool> second_hub_up() {
  const auto names = node_names();
  if (std::find(names.begin(), names.end(), kSecondHub) == names.end()) return false;
  const fs::path at = folder() / kSecondHub;
  if (running(process_of_node(at)) == 0) {
    if (const Status s = start_and_wait(at); !s) return s.error();
  }
  return true;
}

Result<int> down() {
  int stopped = 0;
  for (const std::string& name : node_names()) {
    const auto was = stop(process_of_node(folder() / name), "node " + name);
    if (!was) return was.error();
    stopped += *was ? 1 : 0;
  }
  if (const auto was = stop(relay_process(), "the lab's stand-ins"); !was) return was.error();
  if (has_hosts()) remove_hosts();
  if (const Status s = stop_database(); !s) return s.error();
  if (const Status s = stop_directory(); !s) return s.error();
  return stopped;
}

Endpoint in_front(const Endpoint& inner) {
  const std::string text = inner.address.text();
  if (!text.starts_with("127.0.") || !text.ends_with(".2")) return inner;
  return {*IpAddress::parse(text.substr(0, text.size() - 1) + "1"), inner.port};
}

void put_in_front(host::NodeSettings& settings) {
  for (auto* listens : {&settings.access, &settings.accounting, &settings.authorization})
    for (Endpoint& endpoint : *listens) endpoint = in_front(endpoint);
}

Status set_fault(const std::string& node, const std::string& what) {
  if (node == kDirectory && has_directory()) return set_directory_fault(what);
  auto names = node_names();
  if (has_directory()) names.emplace_back(kDirectory);
  if (std::find(names.begin(), names.end(), node) == names.end())
    return fail(Errc::not_found, fmt::format("node '{}'; allowed: {}", escaped(node), join(names, ", ")));
  if (running(relay_process()) == 0) return fail(Errc::conflict, "the lab is not up: jembatan lab up");
  const fs::path at = folder() / node;
  const bool off = what == "off";
  const bool restart = what == "restart";
  if (!off && !restart) {
    const auto parsed = parse_fault(what);
    if (!parsed) return fail(Errc::malformed, parsed.error().text + ", off, restart");
  }
  if (off || restart) {
    if (const auto stopped = stop(process_of_node(at), "node " + node); !stopped) return stopped.error();
  }
  if (!off && running(process_of_node(at)) == 0) {
    if (const Status started = start_and_wait(at); !started) return started;
  }
  Faults faults = faults_in(kFaultsFile);
  faults.erase(node);
  if (!restart && what != "none") faults[node] = off ? what : text_of(*parse_fault(what));
  return write_faults(faults);
}

std::vector<NodeState> status() {
  std::vector<NodeState> out;
  const Faults faults = faults_in(kFaultsFile);
  for (const std::string& name : node_names()) {
    NodeState state;
    state.name = name;
    state.folder = folder() / name;
    state.process = running(process_of_node(state.folder));
    for (const auto& [one, other] : cut_links()) {
      if (name == one) state.cut_from.push_back(other);
      if (name == other) state.cut_from.push_back(one);
    }
    if (const auto fault = faults.find(name); fault != faults.end()) state.fault = fault->second;
    document::Problems ignored;
    if (auto settings = host::read_node_file(state.folder / "node.toml", ignored)) {
      put_in_front(*settings);
      if (!namespace_of(name).empty()) state.host = on_the_water(settings->management.address).text();
      state.access = first_text(settings->access);
      state.accounting = first_text(settings->accounting);
      state.management = settings->management.text();
    }
    out.push_back(std::move(state));
  }
  return out;
}

}  // namespace jembatan::lab
