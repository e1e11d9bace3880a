#include "cli/change.h"

#include <fmt/format.h>

#include <map>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "bodies/problems.h"
#include "bodies/value.h"
#include "document/write.h"

namespace jembatan::cli {

using nlohmann::json;

namespace {

struct Mark {
  std::string_view sign;
  Colour colour;
};

Mark mark_of(const std::string& what) {
  if (what == "added") return {"+", Colour::good};
  if (what == "removed") return {"-", Colour::bad};
  if (what == "moved") return {">", Colour::warn};
  return {"~", Colour::warn};
}

std::string toml_text(const json& value) {
  const auto read = bodies::value_of(value);
  return read ? document::inline_text(*read) : "";
}

std::string field_text(const json& field) {
  const std::string name = field.value("field", "");
  const std::string before = toml_text(field.value("before", json()));
  const std::string after = toml_text(field.value("after", json()));
  if (name == "text") return "      its text\n";
  if (before.empty()) return fmt::format("      {}: {}\n", name, after);
  if (after.empty()) return fmt::format("      {}: {} taken away\n", name, before);
  return fmt::format("      {}: {} -> {}\n", name, before, after);
}

}  // namespace

std::vector<Option> change_options() {
  std::vector<Option> out = node_options();
  out.push_back({"--why", "TEXT", "why, for the history", false, "-m"});
  out.push_back({"--base", "NUMBER", "refuse if another revision is in force by now"});
  out.push_back({"--dry-run", "", "show what would change, and change nothing"});
  out.push_back({"--all", "", "show every object that changes, not the first few"});
  out.push_back({"--json", "", "one JSON document instead of text"});
  return out;
}

Status add_wish(const Arguments& arguments, json& body) {
  if (arguments.has("--why")) body["message"] = arguments.get("--why");
  if (arguments.has("--dry-run")) body["dry_run"] = true;
  if (!arguments.has("--base")) return {};
  const std::string base = arguments.get("--base");
  if (base.empty() || base.size() > 15 || base.find_first_not_of("0123456789") != std::string::npos)
    return fail(Errc::malformed,
                fmt::format("--base '{}'; allowed: the number of a revision", escaped(base)));
  body["base"] = std::stoull(base);
  return {};
}

std::size_t most_changes(const Arguments& arguments) {
  constexpr std::size_t kFew = 12;
  return arguments.has("--all") ? ~std::size_t{0} : kFew;
}

std::string changes_text(const json& changes, std::size_t most, const Terminal& terminal,
                         const std::string& all_by) {
  std::string out;
  std::map<std::string, int> counts;
  std::size_t shown = 0;
  for (const json& change : changes) {
    const std::string what = change.value("what", "");
    ++counts[what];
    if (shown++ >= most) continue;
    const Mark mark = mark_of(what);
    const std::string kind = change.value("kind", "");
    const std::string name = change.value("name", "");
    std::string line = fmt::format("  {} {}", mark.sign, kind);
    if (!name.empty()) line += fmt::format(" '{}'", escaped(name));
    const std::string place = change.value("place", "");
    if (!place.empty()) line += fmt::format("  {} {}", what == "moved" ? "moved" : "stands", place);
    out += terminal.coloured(line, mark.colour) + "\n";
    for (const json& field : change.value("fields", json::array())) out += field_text(field);
  }
  if (shown > most) out += fmt::format("  … and {} more; to see all of them: {}\n", shown - most, all_by);
  std::vector<std::string> parts;
  for (const char* what : {"added", "changed", "removed", "moved"}) {
    if (counts.contains(what)) parts.push_back(fmt::format("{} {}", counts[what], what));
  }
  out += parts.empty() ? "no differences\n" : join(parts, ", ") + "\n";
  return out;
}

void print_applied(const json& body, const Arguments& arguments, Advise advise, Terminal& terminal) {
  document::Problems told;
  const auto problems = bodies::problems_in(body);
  for (const document::Problem& problem : problems.list()) {
    // A changed object is read apart from the files that hold the rest.
    if (advise == Advise::all || !problem.file.ends_with(".toml")) told.add(problem);
  }
  if (!told.list().empty()) terminal.note(trim(told.text()));
  const auto revision = body.value("plan_revision", 0);
  const bool done = !arguments.has("--dry-run") && body.value("changed", false);
  const std::string all_by = done ? fmt::format("jembatan plan show {} --all", revision) : kSameWithAll;
  terminal.out(changes_text(body.value("changes", json::array()), most_changes(arguments), terminal, all_by));
  const json resolved = body.value("resolved", json::object());
  for (const auto& [host, address] : resolved.items()) {
    const auto text = address.get<std::string>();
    terminal.line(fmt::format("host {} has the {} {}", host,
                              text.find(',') == std::string::npos ? "address" : "addresses", text));
  }
  if (arguments.has("--dry-run")) {
    terminal.line(fmt::format("a dry run: revision {} stays in force", revision));
  } else if (body.value("changed", false)) {
    terminal.line(fmt::format("revision {} is in force", revision));
  } else {
    terminal.line(fmt::format("that is the plan already: revision {} stays in force", revision));
  }
}

Exit send_change(const Arguments& arguments, Terminal& terminal, const std::string& path, json body) {
  if (const Status s = add_wish(arguments, body); !s) return report(s.error(), terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto done = node->post(path, body);
  if (!done) {
    const Exit exit = report(done.error(), terminal);
    return done.error().code == Errc::malformed ? Exit::no : exit;
  }
  if (arguments.has("--json")) {
    terminal.line(done->dump(2));
  } else {
    print_applied(*done, arguments, Advise::what_changed, terminal);
  }
  return Exit::done;
}

}  // namespace jembatan::cli
