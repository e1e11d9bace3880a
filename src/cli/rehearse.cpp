// jembatan rehearse: requests with expected outcomes, over the wire.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <functional>
#include <memory>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/dry_run.h"
#include "cli/rehearse.h"
#include "cli/rehearsing.h"
#include "document/parse.h"
#include "plan/read.h"

namespace jembatan::cli {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;
using rehearsal::Case;
using rehearsal::Rehearsal;
using Microseconds = std::chrono::microseconds;

// Files, and the *.toml files of folders in the order of their names.
Result<std::vector<fs::path>> files_of(const std::vector<std::string>& named) {
  std::vector<fs::path> out;
  for (const std::string& name : named) {
    std::error_code failed;
    if (!fs::is_directory(name, failed)) {
      out.emplace_back(name);
      continue;
    }
    std::vector<fs::path> inside;
    for (const auto& entry : fs::directory_iterator(name, failed))
      if (entry.path().extension() == ".toml") inside.push_back(entry.path());
    if (failed) return fail(Errc::io, fmt::format("folder '{}': {}", name, failed.message()));
    if (inside.empty()) return fail(Errc::not_found, fmt::format("folder '{}' has no *.toml files", name));
    std::sort(inside.begin(), inside.end());
    out.insert(out.end(), inside.begin(), inside.end());
  }
  return out;
}

Result<std::vector<Rehearsal>> read_all(const std::vector<std::string>& named) {
  const auto files = files_of(named);
  if (!files) return files.error();
  document::Problems problems;
  std::vector<Rehearsal> out;
  for (const fs::path& file : *files) {
    const auto text = document::read_file(file);
    if (!text) return text.error();
    const auto parsed = document::parse(file.string(), *text, problems);
    if (!parsed) continue;
    if (auto one = rehearsal::read(*parsed, problems)) out.push_back(std::move(*one));
  }
  if (problems.errors() > 0) return fail(Errc::malformed, problems.text() + problems.count_text());
  return out;
}

std::string time_text(Microseconds time) {
  const double ms = static_cast<double>(time.count()) / 1000;
  return ms < 1000 ? fmt::format("{:.1f} ms", ms) : fmt::format("{:.1f} s", ms / 1000);
}

bool is_ok(const CaseResult& result) {
  return result.failures.empty();
}

void print_case(const CaseResult& result, Terminal& terminal) {
  const bool skipped = !result.skipped.empty();  // why, the end says
  const std::string verdict = skipped         ? terminal.coloured("not run", Colour::warn)
                              : is_ok(result) ? terminal.coloured("ok     ", Colour::good)
                                              : terminal.coloured("FAILED ", Colour::bad);
  terminal.line(fmt::format("  {}  {}{}", verdict, result.of->name,
                            skipped ? "" : "  (" + time_text(result.took) + ")"));
  if (!result.note.empty()) terminal.line("           " + result.note);
  for (const CaseResult::Failure& failure : result.failures) {
    const std::string where = failure.step == 0 ? "afterwards" : fmt::format("step {}", failure.step);
    const auto lines = split(failure.text, '\n');
    terminal.line(
        fmt::format("           {} ({}:{}): {}", where, result.of->file, failure.at.line, lines.front()));
    for (std::size_t i = 1; i < lines.size(); ++i) terminal.line(fmt::format("             {}", lines[i]));
    if (!failure.look.empty()) terminal.line("             look at it: " + failure.look);
  }
}

std::string summary_of(const std::vector<CaseResult>& results, Microseconds took) {
  const auto count = [&](auto condition) {
    return static_cast<std::size_t>(std::count_if(results.begin(), results.end(), condition));
  };
  const std::size_t failed = count([](const CaseResult& one) { return !is_ok(one); });
  const std::size_t skipped = count([](const CaseResult& one) { return !one.skipped.empty(); });
  std::vector<Microseconds> answers;
  for (const CaseResult& one : results) answers.insert(answers.end(), one.answers.begin(), one.answers.end());
  std::sort(answers.begin(), answers.end());
  std::string out = fmt::format("{}: {} ok, {} failed", counted(results.size(), "case"),
                                results.size() - failed - skipped, failed);
  if (skipped > 0) {
    const auto one =
        std::find_if(results.begin(), results.end(), [](const CaseResult& r) { return !r.skipped.empty(); });
    out += fmt::format(", {} not run ({})", skipped, one->skipped);
  }
  out += " in " + time_text(took);
  if (!answers.empty())
    out += fmt::format(" ({}: half within {}, 99 of 100 within {})", counted(answers.size(), "request"),
                       time_text(answers[answers.size() / 2]), time_text(answers[answers.size() * 99 / 100]));
  return out;
}

std::string xml_text(std::string_view text) {
  std::string out;
  for (const char letter : text) {
    switch (letter) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      default:
        out += static_cast<unsigned char>(letter) < 0x20 ? ' ' : letter;
    }
  }
  return out;
}

double seconds(Microseconds time) {
  return static_cast<double>(time.count()) / 1e6;
}

// The form that most systems that run tests read.
Status write_junit(const std::string& file, const std::vector<CaseResult>& results, Microseconds took) {
  std::size_t failed = 0;
  std::string cases;
  for (const CaseResult& one : results) {
    cases += fmt::format("  <testcase classname=\"{}\" name=\"{}\" time=\"{:.3f}\"", xml_text(one.of->file),
                         xml_text(one.of->name), seconds(one.took));
    if (!one.skipped.empty()) {
      cases += fmt::format("><skipped message=\"{}\"/></testcase>\n", xml_text(one.skipped));
      continue;
    }
    if (is_ok(one)) {
      cases += "/>\n";
      continue;
    }
    ++failed;
    const CaseResult::Failure& first = one.failures.front();
    cases += fmt::format("><failure message=\"{}\">{}:{}\n{}\n{}</failure></testcase>\n",
                         xml_text(split(first.text, '\n').front()), xml_text(one.of->file), first.at.line,
                         xml_text(first.text), xml_text(first.look));
  }
  std::ofstream out(file, std::ios::trunc);
  out << fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuite name=\"rehearsal\" tests=\"{}\" "
      "failures=\"{}\" "
      "time=\"{:.3f}\">\n{}</testsuite>\n",
      results.size(), failed, seconds(took), cases);
  out.close();
  return out ? Status{} : Status{fail(Errc::io, fmt::format("file '{}' cannot be written", file))};
}

json result_json(const CaseResult& result) {
  json failures = json::array();
  for (const CaseResult::Failure& failure : result.failures)
    failures.push_back(
        {{"step", failure.step}, {"line", failure.at.line}, {"text", failure.text}, {"look", failure.look}});
  return {{"file", result.of->file},           {"line", result.of->at.line},
          {"name", result.of->name},           {"ok", is_ok(result)},
          {"skipped", result.skipped},         {"took_us", result.took.count()},
          {"requests", result.answers.size()}, {"failures", failures}};
}

using Runner = std::function<CaseResult(const Case&)>;

Result<Runner> dry_runner(const std::string& folder, const std::string& at) {
  document::Problems problems;
  const auto plan = plan::read_folder(folder, problems);
  if (!plan) return fail(Errc::malformed, problems.text() + problems.count_text());
  return Runner([run = std::make_shared<DryRun>(plan, at)](const Case& one) { return run->run(one); });
}

Result<Runner> runner_of(const Arguments& arguments) {
  if (arguments.has("--dry") != arguments.has("--plan"))
    return fail(Errc::malformed, "--dry and --plan FOLDER belong together");
  if (arguments.has("--dry")) return dry_runner(arguments.get("--plan"), arguments.get("--at"));
  return Runner([run = std::make_shared<Rehearsing>()](const Case& one) { return run->run(one); });
}

Exit rehearse(const Arguments& arguments, Terminal& terminal) {
  const auto rehearsals = read_all(arguments.positionals());
  if (!rehearsals) return report(rehearsals.error(), terminal);
  const auto runner = runner_of(arguments);
  if (!runner) return report(runner.error(), terminal);
  const std::string only = lower(arguments.get("--only"));
  const bool as_json = arguments.has("--json");
  std::vector<CaseResult> results;
  const auto began = std::chrono::steady_clock::now();
  for (const Rehearsal& one : *rehearsals) {
    bool headed = false;
    for (const Case& each : one.cases) {
      if (!only.empty() && lower(each.name).find(only) == std::string::npos) continue;
      if (!headed && !as_json)
        terminal.line(
            terminal.coloured(one.file + (one.about.empty() ? "" : ": " + one.about), Colour::bold));
      headed = true;
      results.push_back((*runner)(each));
      if (!as_json) print_case(results.back(), terminal);
    }
  }
  if (results.empty())
    return report(fail(Errc::not_found, "no case has that in its name (--only)"), terminal);
  const auto took = std::chrono::duration_cast<Microseconds>(std::chrono::steady_clock::now() - began);
  const bool ok = std::all_of(results.begin(), results.end(), is_ok);
  if (arguments.has("--junit")) {
    if (const Status written = write_junit(arguments.get("--junit"), results, took); !written)
      return report(written.error(), terminal);
  }
  if (as_json) {
    json list = json::array();
    for (const CaseResult& result : results) list.push_back(result_json(result));
    terminal.line(json{{"ok", ok}, {"took_us", took.count()}, {"cases", list}}.dump(2));
  } else {
    terminal.line(terminal.coloured(summary_of(results, took), ok ? Colour::good : Colour::bad));
  }
  return ok ? Exit::done : Exit::no;
}

}  // namespace

Status rehearse_plan(const std::filesystem::path& folder, const std::vector<std::string>& files,
                     const std::string& at) {
  const auto rehearsals = read_all(files);
  if (!rehearsals) return rehearsals.error();
  const auto runner = dry_runner(folder.string(), at);
  if (!runner) return runner.error();
  std::string failed;
  std::size_t ran = 0;
  for (const Rehearsal& one : *rehearsals) {
    for (const Case& each : one.cases) {
      const CaseResult result = (*runner)(each);
      if (result.skipped.empty()) ++ran;
      for (const CaseResult::Failure& failure : result.failures)
        failed += fmt::format("\n  {} ({}:{}): {}", each.name, each.file, failure.at.line, failure.text);
    }
  }
  if (ran == 0)
    return fail(Errc::malformed, "the rehearsals have no step that this plan decides without the wire");
  if (!failed.empty()) return fail(Errc::malformed, "the plan fails its rehearsals:" + failed);
  return {};
}

std::vector<Command> rehearse_commands() {
  return {{"rehearse",
           "Run requests with expected outcomes, and say where one came out otherwise; exit code 1: one did",
           "jembatan rehearse rehearsals",
           {{"--dry", "", "without the wire: decide them by the plan of --plan, in this process"},
            {"--plan", "FOLDER", "with --dry: the folder of that plan"},
            {"--at", "NODE", "with --dry: only the steps that ask this node, whose plan it is"},
            {"--only", "TEXT", "only cases with this in their name"},
            {"--junit", "FILE", "write the results there, too, in the form that systems that run tests read"},
            {"--json", "", "one JSON document instead of text"}},
           {"FILE|FOLDER", "rehearsals: docs/rehearsals.md says how they are written", true, true},
           rehearse}};
}

}  // namespace jembatan::cli
