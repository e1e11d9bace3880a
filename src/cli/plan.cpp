// jembatan plan: checking, comparing, applying, and what was in force before.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "bodies/problems.h"
#include "cli/bundle.h"
#include "cli/change.h"
#include "cli/exported.h"
#include "cli/listing.h"
#include "cli/objects.h"
#include "cli/rehearse.h"
#include "host/system.h"
#include "plan/read.h"
#include "revision/objects.h"

namespace jembatan::cli {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;

bool is_number(const std::string& text) {
  return !text.empty() && text.size() < 16 && text.find_first_not_of("0123456789") == std::string::npos;
}

// What a node has in force, as its files; secrets stay there.
Result<plan::PlanPtr> plan_of_node(const Arguments& arguments, document::Problems& problems) {
  auto node = NodeClient::open(arguments);
  if (!node) return node.error();
  const auto body = node->call("GET", "/v1/plan/files");
  if (!body) return body.error();
  std::vector<plan::SourceFile> files;
  for (const json& file : body->at("files"))
    files.push_back({file.value("name", ""), file.value("text", "")});
  plan::Outside outside;
  outside.now = host::SystemClock().now().wall;
  return plan::read(files, outside, problems);
}

Exit check_plan(const Arguments& arguments, Terminal& terminal) {
  document::Problems problems;
  const bool folder = !arguments.positionals().empty();
  if (folder == (arguments.has("--node") || arguments.has("--lab") || arguments.has("--url")))
    return report(
        fail(Errc::malformed, "which plan? One of FOLDER, and --node FILE for what a node has in force"),
        terminal);
  const Result<plan::PlanPtr> read =
      folder ? plan::read_folder(arguments.positionals().front(), problems, host::SystemClock().now().wall)
             : plan_of_node(arguments, problems);
  if (!read) return report(read.error(), terminal);
  const plan::PlanPtr& plan = *read;
  if (arguments.has("--json")) {
    terminal.line(bodies::json_of(problems).dump(2));
  } else {
    terminal.out(problems.text());
    terminal.line(
        plan ? fmt::format("{}: {}, {}, {}, {}", problems.count_text(),
                           counted(plan->clients.size(), "client"), counted(plan->users.size(), "user"),
                           counted(plan->realms.size(), "realm"), counted(plan->groups.size(), "group"))
             : problems.count_text());
  }
  const bool good = plan && (problems.advice() == 0 || !arguments.has("--strict"));
  return good ? Exit::done : Exit::no;
}

Exit reload(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->post(
      "/v1/plan/reload", {{"force", arguments.has("--force")}, {"dry_run", arguments.has("--dry-run")}});
  if (!body && body.error().code == Errc::malformed) {
    terminal.error(body.error().text + "\nthe active plan stays in force");
    return Exit::no;
  }
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else {
    print_applied(*body, arguments, Advise::all, terminal);
  }
  return Exit::done;
}

Exit apply(const Arguments& arguments, Terminal& terminal) {
  const fs::path folder = arguments.positionals().front();
  auto body = bundle_of(folder);
  if (!body) return report(body.error(), terminal);
  if (!arguments.all("--rehearse").empty()) {
    const Status went = rehearse_plan(folder, arguments.all("--rehearse"), arguments.get("--at"));
    if (!went) {
      (void)report(went.error(), terminal);
      terminal.note("the active plan stays in force");
      return Exit::no;
    }
  }
  Exported exported = Exported::of(folder);
  if (exported.revision() && !arguments.has("--force")) (*body)["base"] = *exported.revision();
  if (arguments.has("--force")) (*body)["force"] = true;
  if (const Status s = add_wish(arguments, *body); !s) return report(s.error(), terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto done = node->post("/v1/plan/apply", *body);
  if (!done) {
    const Exit exit = report(done.error(), terminal);
    if (done.error().code == Errc::conflict)
      terminal.note("to see it: jembatan plan history; to apply all the same: --force");
    if (done.error().code == Errc::malformed) terminal.note("the active plan stays in force");
    return done.error().code == Errc::malformed ? Exit::no : exit;
  }
  if (!arguments.has("--dry-run")) (void)exported.remember(done->value("plan_revision", std::uint64_t{0}));
  if (arguments.has("--json")) {
    terminal.line(done->dump(2));
  } else {
    print_applied(*done, arguments, Advise::all, terminal);
  }
  return Exit::done;
}

Exit show_changes(const Arguments& arguments, Terminal& terminal, const json& body,
                  const std::string& sides) {
  if (arguments.has("--json")) {
    terminal.line(body.dump(2));
  } else {
    terminal.line(terminal.coloured(sides, Colour::bold));
    terminal.out(changes_text(body.at("changes"), most_changes(arguments), terminal));
  }
  return body.at("changes").empty() ? Exit::done : Exit::no;
}

// A folder against what is in force, or one revision against another.
Exit diff(const Arguments& arguments, Terminal& terminal) {
  const auto& words = arguments.positionals();
  if (words.size() > 2) return report(fail(Errc::malformed, "one folder, or one or two revisions"), terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  if (is_number(words.front())) {
    std::vector<std::pair<std::string, std::string>> query{{"from", words.front()}};
    if (words.size() == 2) {
      if (!is_number(words[1]))
        return report(fail(Errc::malformed, fmt::format("'{}' is no revision", escaped(words[1]))), terminal);
      query.emplace_back("to", words[1]);
    }
    const auto body = node->call("GET", "/v1/plan/difference", query);
    if (!body) return report(body.error(), terminal);
    return show_changes(arguments, terminal, *body,
                        fmt::format("from revision {} to revision {}{}", body->value("from", 0),
                                    body->value("to", 0), words.size() == 2 ? "" : ", which is in force"));
  }
  auto body = bundle_of(words.front());
  if (!body) return report(body.error(), terminal);
  (*body)["dry_run"] = true;
  const auto done = node->post("/v1/plan/apply", *body);
  if (!done) return report(done.error(), terminal);
  return show_changes(arguments, terminal, *done,
                      fmt::format("from revision {}, which is in force, to folder {}: what apply would do",
                                  done->value("plan_revision", 0), words.front()));
}

std::string counts_text(const json& revision) {
  std::vector<std::string> parts;
  for (const char* what : {"added", "changed", "removed", "moved"}) {
    if (const auto count = revision.value(what, 0); count > 0)
      parts.push_back(fmt::format("{} {}", count, what));
  }
  return join(parts, ", ");
}

// "client kerapu-deck-2 changed", or how many of each.
std::string what_text(const json& revision) {
  const std::string summary = revision.value("summary", "");
  return summary.empty() ? counts_text(revision) : escaped(summary);
}

Exit history(const Arguments& arguments, Terminal& terminal) {
  const auto query = query_of(arguments, {"--since", "--until", "--most"});
  const auto print = [](const json& rows, Terminal& out) {
    Table table({"revision", "time (UTC)", "who", "by", "what", "why"});
    for (const json& row : rows) {
      table.add({std::to_string(row.value("number", 0)), short_time(row.value("at", "")),
                 cell(row, "author", 14), row.value("source", ""), what_text(row),
                 row.value("message", "").empty() ? "-" : escaped(row.value("message", ""))});
    }
    out.table(table);
  };
  return list_rows(arguments, terminal, query, {"/v1/plan/revisions", "revisions", print});
}

Exit show_revision(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/plan/difference", {{"to", arguments.positionals().front()}});
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
    return Exit::done;
  }
  const json revision = body->value("revision", json::object());
  terminal.line(fmt::format("revision {}  {}  by {} ({})", revision.value("number", 0),
                            short_time(revision.value("at", "")), revision.value("author", ""),
                            revision.value("source", "")));
  if (const std::string why = revision.value("message", ""); !why.empty())
    terminal.line("why: " + escaped(why));
  terminal.out(changes_text(body->at("changes"), most_changes(arguments), terminal));
  return Exit::done;
}

Exit restore(const Arguments& arguments, Terminal& terminal) {
  const std::string& number = arguments.positionals().front();
  if (!is_number(number))
    return report(fail(Errc::malformed, fmt::format("'{}' is no revision", escaped(number))), terminal);
  return send_change(arguments, terminal, "/v1/plan/restore", {{"revision", std::stoull(number)}});
}

// The one before the newest, as a new one: again, it brings back what was undone.
Exit undo(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/plan/revisions", {{"most", "2"}});
  if (!body) return report(body.error(), terminal);
  const json& revisions = body->at("revisions");
  if (revisions.size() < 2) return report(fail(Errc::conflict, "there is no change to undo"), terminal);
  const int newest = revisions[0].value("number", 0);
  const std::string why = revisions[0].value("message", "");
  json wish{{"revision", revisions[1].value("number", 0)},
            {"base", newest},
            {"message", fmt::format("undo of revision {}{}{}", newest, why.empty() ? "" : ": ", why)}};
  return send_change(arguments, terminal, "/v1/plan/restore", std::move(wish));
}

Status write_file(const fs::path& path, const std::string& text, bool secret) {
  std::error_code failed;
  fs::create_directories(path.parent_path(), failed);
  std::ofstream out(path, std::ios::binary | std::ios::trunc);
  if (secret) fs::permissions(path, fs::perms::owner_read | fs::perms::owner_write, failed);
  out << text;
  out.close();
  if (out) return {};
  return fail(Errc::io, fmt::format("file '{}' cannot be written", path.string()));
}

// "clients.toml", "dictionaries/strait.toml": nothing that leads out of the folder.
bool stays_inside(const fs::path& name) {
  return name.is_relative() &&
         std::none_of(name.begin(), name.end(), [](const fs::path& part) { return part == ".."; });
}

// What an earlier export wrote, and nobody changed since, is replaced; any other *.toml in the folder would
// be read with the new files, or be lost.
Status clear_for(const fs::path& folder, const json& files) {
  for (const json& file : files) {
    const fs::path name = file.value("name", "");
    if (!stays_inside(name))
      return fail(Errc::malformed,
                  fmt::format("the node names a file outside of the folder: '{}'", escaped(name.string())));
  }
  const Exported earlier = Exported::of(folder);
  std::vector<fs::path> there;
  for (const fs::path& part : {folder, folder / "dictionaries"}) {
    std::error_code ignored;
    for (const auto& entry : fs::directory_iterator(part, ignored)) {
      if (entry.path().extension() != ".toml") continue;
      if (!earlier.wrote(fs::relative(entry.path(), folder)))
        return fail(Errc::conflict,
                    fmt::format("'{}' was not written by an export, or was changed since: choose an "
                                "empty folder, or put it away first",
                                entry.path().string()));
      there.push_back(entry.path());
    }
  }
  std::error_code ignored;
  for (const fs::path& path : there) fs::remove(path, ignored);
  return {};
}

Exit export_plan(const Arguments& arguments, Terminal& terminal) {
  const fs::path folder = arguments.positionals().front();
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  std::vector<std::pair<std::string, std::string>> query;
  const bool secrets = arguments.has("--secrets");
  if (secrets) query.emplace_back("secrets", "true");
  if (arguments.has("--revision")) query.emplace_back("revision", arguments.get("--revision"));
  const auto body = node->call("GET", "/v1/plan/files", query);
  if (!body) return report(body.error(), terminal);
  const json& files = body->at("files");
  if (const Status s = clear_for(folder, files); !s) return report(s.error(), terminal);
  for (const json& file : files) {
    const Status written = write_file(folder / file.value("name", ""), file.value("text", ""), secrets);
    if (!written) return report(written.error(), terminal);
  }
  const std::uint64_t revision = body->value("revision", std::uint64_t{0});
  std::vector<fs::path> names;
  for (const json& file : files) names.emplace_back(file.value("name", ""));
  if (const Status kept = Exported::of(folder).remember(revision, names); !kept)
    return report(kept.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(json{{"revision", revision}, {"files", files.size()}}.dump(2));
  } else {
    terminal.line(fmt::format("revision {} written to {} in {} files, secrets {}", revision, folder.string(),
                              files.size(), secrets ? "in the open" : "by their marks"));
  }
  return Exit::done;
}

}  // namespace

std::vector<Command> plan_commands() {
  std::vector<Option> apply_options{
      {"--force", "", "also if the plan has changed since the folder was exported"},
      {"--rehearse", "FILE",
       "refuse it if it fails this rehearsal, decided without the wire; may be given again", false, "", true},
      {"--at", "NODE", "with --rehearse: only the steps that ask this node, whose plan it is"}};
  for (Option& option : change_options()) apply_options.push_back(std::move(option));
  return {{"plan check",
           "Check a plan's folder without a server, or what a node has in force: errors and advice",
           "jembatan plan check plans/demo/hub/plan",
           reading_options({{"--strict", "", "advice counts as errors"}}),
           {"FOLDER", "the plan's folder", false, false},
           check_plan},
          {"plan diff",
           "Show what differs: a folder and the plan in force, or two revisions",
           "jembatan plan diff 3 7 --lab hub",
           reading_options({{"--all", "", "every object that differs, not the first few"}}),
           {"FOLDER|REVISION", "a folder, or one revision (against the one in force) or two", true, true},
           diff},
          {"plan apply",
           "Check a folder and make it the plan, whole or not at all",
           "jembatan plan apply hub-plan -m \"new ship\" --node node.toml",
           std::move(apply_options),
           {"FOLDER", "the plan's folder", true, false},
           apply},
          plan_preview_command(),
          {"plan history",
           "List the revisions of a node's plan, newest first",
           "jembatan plan history --lab hub",
           reading_options({filter("--since"), filter("--until"), filter("--most")}),
           {},
           history},
          {"plan show",
           "Show one revision: who, when, why, what changed",
           "jembatan plan show 3 --lab hub",
           reading_options({{"--all", "", "every object that changed, not the first few"}}),
           {"REVISION", "its number", true, false},
           show_revision},
          {"plan restore",
           "Make an earlier revision the plan again, as a new one",
           "jembatan plan restore 3 -m \"the new ship came too early\" --node node.toml",
           change_options(),
           {"REVISION", "its number", true, false},
           restore},
          {"plan undo",
           "Take the newest change back, as a new revision",
           "jembatan plan undo --node node.toml",
           change_options(),
           {},
           undo},
          {"plan export",
           "Write a revision into a folder, for reading, git or another node",
           "jembatan plan export hub-plan --lab hub",
           reading_options({{"--revision", "NUMBER", "another one than that in force"},
                            {"--secrets", "",
                             "with the secrets in the open: administrators alone; it is put on record"}}),
           {"FOLDER", "where to; made if it is not there", true, false},
           export_plan},
          {"plan reload",
           "Let a node read its plan folder again; with an error the active plan stays",
           "jembatan plan reload --lab hub",
           reading_options({{"--force", "", "even if most clients would be gone"},
                            {"--dry-run", "", "show what would change, and change nothing"},
                            {"--all", "", "show every object that changes, not the first few"}}),
           {},
           reload}};
}

}  // namespace jembatan::cli
