#include "cli/secrets.h"

#include <fmt/format.h>
#include <termios.h>
#include <unistd.h>

#include <filesystem>
#include <iostream>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"
#include "document/parse.h"
#include "host/secret_file.h"
#include "plan/read.h"

namespace jembatan::cli {

using nlohmann::json;

namespace {

// Whose secrets a command is about, in its words and in the API's.
struct Whose {
  std::string noun;     // "client", "group"
  std::string key;      // of the API's body: "client", "server"
  std::string example;  // a name
  Positional name;
};

const Whose& clients() {
  static const Whose all{"client", "client", "kerapu-deck-3", {"NAME", "the client's name", true, false}};
  return all;
}

const Whose& servers() {
  static const Whose all{
      "group", "server", "reef-homes/reef-1", {"GROUP/SERVER", "a server of a group", true, false}};
  return all;
}

json body_of(const Whose& whose, const Arguments& arguments, const std::string& what) {
  json body{{whose.key, arguments.positionals().front()}, {"do", what}};
  if (arguments.has("--until")) body["until"] = arguments.get("--until");
  return body;
}

// The secret alone on standard output, so that it can be piped; what to do next on standard error.
Exit hand_out_answer(const json& body, const Arguments& arguments, Terminal& terminal,
                     const std::string& next) {
  if (arguments.has("--json")) {
    terminal.line(body.dump(2));
    return Exit::done;
  }
  const Status given = hand_out(arguments, terminal, body.value("secret", ""));
  if (!given) return report(given.error(), terminal);
  if (!next.empty()) terminal.note(next);
  return Exit::done;
}

Exit show(const Whose& whose, const Arguments& arguments, Terminal& terminal) {
  if (const Status may = may_hand_out(arguments); !may) return report(may.error(), terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->post("/v1/plan/secret", body_of(whose, arguments, "show"));
  if (!body) return report(body.error(), terminal);
  return hand_out_answer(*body, arguments, terminal, "");
}

Exit rotate(const Whose& whose, const Arguments& arguments, Terminal& terminal) {
  if (const Status may = may_hand_out(arguments); !may) return report(may.error(), terminal);
  json wanted = body_of(whose, arguments, "rotate");
  if (arguments.has("--secret-file")) {
    const auto secret = secret_in_file(arguments.get("--secret-file"));
    if (!secret) return report(secret.error(), terminal);
    wanted["secret"] = std::string(text_of(secret->reveal()));
  }
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->post("/v1/plan/secret", wanted);
  if (!body) return report(body.error(), terminal);
  const std::string& name = arguments.positionals().front();
  if (whose.key == "client") {
    return hand_out_answer(
        *body, arguments, terminal,
        fmt::format("client {} may use this new secret or the old one; enter the new one in the device, see "
                    "who has changed with `jembatan client secret list`, then `jembatan client secret finish "
                    "{}`",
                    name, name));
  }
  if (arguments.has("--secret-file") && !arguments.has("--json")) {
    terminal.line(fmt::format("server {} is asked with the secret of that file from now on", name));
    return Exit::done;
  }
  return hand_out_answer(
      *body, arguments, terminal,
      fmt::format("server {} is asked with this secret from now on: enter it there, too", name));
}

// Who used the old one last would be shut out.
std::string still_used(const json& rotations, const std::string& client) {
  for (const json& row : rotations.value("rotations", json::array())) {
    if (row.value("client", "") != client || !row["old_last_used"].is_string()) continue;
    const std::string old = row["old_last_used"];
    if (row["new_last_used"].is_string() && row["new_last_used"].get<std::string>() > old) continue;
    return old;
  }
  return "";
}

Exit finish(const Arguments& arguments, Terminal& terminal) {
  const std::string& name = arguments.positionals().front();
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  if (!arguments.has("--force")) {
    const auto rotations = node->call("GET", "/v1/clients/rotations");
    if (!rotations) return report(rotations.error(), terminal);
    const std::string old = still_used(*rotations, name);
    if (!old.empty() &&
        !confirmed(fmt::format("client {} last used the old secret ({} UTC). End it all the same?", name,
                               short_time(old)))) {
      terminal.error(
          fmt::format("client {} last used the old secret ({} UTC): it would be shut out; to end it all the "
                      "same: --force",
                      name, short_time(old)));
      return Exit::refused;
    }
  }
  const auto body = node->post("/v1/plan/secret", body_of(clients(), arguments, "finish"));
  if (!body) return report(body.error(), terminal);
  terminal.line(arguments.has("--json") ? body->dump(2)
                                        : fmt::format("client {}: the old secret is valid no more", name));
  return Exit::done;
}

Command command(const Whose& whose, const std::string& verb, const std::string& summary,
                std::vector<Option> options, std::function<Exit(const Arguments&, Terminal&)> run) {
  for (Option& option : reading_options()) options.push_back(std::move(option));
  return {fmt::format("{} secret {}", whose.noun, verb),
          summary,
          fmt::format("jembatan {} secret {} {} --node node.toml", whose.noun, verb, whose.example),
          std::move(options),
          whose.name,
          std::move(run)};
}

}  // namespace

Result<Secret> secret_in_file(const std::string& path) {
  const auto text = document::read_file(path);
  if (!text) return text.error();
  if (trim(*text).empty()) return fail(Errc::malformed, fmt::format("file '{}' is empty", path));
  return Secret(trim(*text));
}

Result<Secret> typed_secret(const std::string& what, const std::string& otherwise) {
  if (isatty(STDIN_FILENO) == 0)
    return fail(Errc::not_found, fmt::format("no {}; {}, or run on a terminal", what, otherwise));
  fmt::print(stderr, "{}: ", what);
  termios before{};
  tcgetattr(STDIN_FILENO, &before);
  termios silent = before;
  silent.c_lflag &= ~static_cast<tcflag_t>(ECHO);
  tcsetattr(STDIN_FILENO, TCSAFLUSH, &silent);
  std::string line;
  std::getline(std::cin, line);
  tcsetattr(STDIN_FILENO, TCSAFLUSH, &before);
  fmt::print(stderr, "\n");
  Secret out(line);
  wipe(OctetSpan(reinterpret_cast<std::uint8_t*>(line.data()), line.size()));
  return out;
}

bool confirmed(const std::string& question) {
  if (isatty(STDIN_FILENO) == 0) return false;
  fmt::print(stderr, "{} [y/N] ", question);
  std::string line;
  std::getline(std::cin, line);
  return lower(trim(line)) == "y" || lower(trim(line)) == "yes";
}

Option out_option() {
  return {"--out", "FILE", "write it to this new file, readable by its owner alone, instead of the screen"};
}

Status may_hand_out(const Arguments& arguments) {
  if (!arguments.has("--out") || !std::filesystem::exists(arguments.get("--out"))) return {};
  return fail(Errc::conflict, fmt::format("file '{}' is there already", arguments.get("--out")));
}

Status hand_out(const Arguments& arguments, Terminal& terminal, const std::string& secret) {
  if (!arguments.has("--out")) {
    terminal.line(secret);
    return {};
  }
  const Status written = host::write_secret_file(arguments.get("--out"), "file", secret);
  if (written) terminal.note(fmt::format("written to {}", arguments.get("--out")));
  return written;
}

Result<std::vector<NamedSecret>> secrets_of_plan(const Arguments& arguments) {
  auto node = NodeClient::open(arguments);
  if (!node) return node.error();
  const auto body = node->call("GET", "/v1/plan/files", {{"secrets", "true"}});
  if (!body) return body.error();
  std::vector<plan::SourceFile> files;
  for (const json& file : body->at("files"))
    files.push_back({file.value("name", ""), file.value("text", "")});
  document::Problems problems;
  const auto plan = plan::read(files, {}, problems);
  if (!plan) return fail(Errc::malformed, problems.count_text());
  std::vector<NamedSecret> out;
  for (const plan::Client& client : plan->clients) {
    out.push_back({"client " + client.name, client.secret});
    if (client.old_secret) out.push_back({"client " + client.name + " (the old one)", *client.old_secret});
  }
  for (const plan::Group& group : plan->groups)
    for (const plan::Server& server : group.servers)
      out.push_back({fmt::format("server {}/{}", group.name, server.name), server.secret});
  return out;
}

std::vector<Command> client_secret_commands() {
  return {command(clients(), "show", "Show a client's shared secret; that it was shown is put on record",
                  {out_option()}, [](const Arguments& a, Terminal& t) { return show(clients(), a, t); }),
          command(clients(), "rotate", "Give a client a new secret; the old one stays valid until finish",
                  {{"--until", "TIME", "the old one's end: 7d (from now on), 2026-12-01, or RFC 3339"},
                   {"--secret-file", "FILE", "file with the new one; without, one is made"},
                   out_option()},
                  [](const Arguments& a, Terminal& t) { return rotate(clients(), a, t); }),
          command(clients(), "finish", "End a rotation: the old secret is valid no more",
                  {{"--force", "", "even if the device used the old one last"}}, finish)};
}

std::vector<Command> server_secret_commands() {
  return {command(servers(), "show", "Show the secret of a server to forward to; that is put on record",
                  {out_option()}, [](const Arguments& a, Terminal& t) { return show(servers(), a, t); }),
          command(servers(), "rotate",
                  "Ask a server with a new secret from now on: rotate it there first, and give it here",
                  {{"--secret-file", "FILE", "file with the new one; without, one is made"}, out_option()},
                  [](const Arguments& a, Terminal& t) { return rotate(servers(), a, t); })};
}

}  // namespace jembatan::cli
