#include "cli/judging.h"

#include <fmt/format.h>
#include <re2/re2.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "base/text.h"
#include "cli/expectation.h"

namespace jembatan::cli {

using dictionary::Described;
using rehearsal::Expectation;
using rehearsal::Wanted;

namespace {

bool is_called(const Described& line, std::string_view name) {
  return line.name == name || (line.definition != nullptr && line.definition->name == name);
}

std::string_view unquoted(std::string_view value) {
  const bool quoted = value.size() > 1 && value.front() == '"' && value.back() == '"';
  return quoted ? value.substr(1, value.size() - 2) : value;
}

std::string values_of(const std::vector<Described>& lines, std::string_view name) {
  std::vector<std::string> out;
  for (const Described& line : lines)
    if (is_called(line, name)) out.push_back(line.value);
  return out.empty() ? "none" : join(out, ", ");
}

Result<std::optional<std::string>> compare(const Wanted& wanted, const Came& came,
                                           const dictionary::Catalogue& names) {
  const std::string name = wanted.name == "vlan" ? "Tunnel-Private-Group-ID" : wanted.name;
  const auto has = [&](std::string_view what) {
    return std::optional(
        fmt::format("expected {} {}, the reply has {}", wanted.name, what, values_of(came.lines, name)));
  };
  if (!wanted.matching.empty()) {
    const re2::RE2 pattern(wanted.matching, re2::RE2::Quiet);
    if (!pattern.ok())
      return fail(Errc::malformed, fmt::format("pattern of {}: {}", wanted.name, pattern.error()));
    const bool any = std::any_of(came.lines.begin(), came.lines.end(), [&](const Described& line) {
      return is_called(line, name) && re2::RE2::PartialMatch(unquoted(line.value), pattern);
    });
    return any ? std::nullopt : has("matching '" + wanted.matching + "'");
  }
  if (wanted.any_of.empty()) {
    const bool any = std::any_of(came.lines.begin(), came.lines.end(),
                                 [&](const Described& line) { return is_called(line, name); });
    return any ? std::nullopt : has("of any value");
  }
  for (const std::string& value : wanted.any_of) {
    const auto expected = read_expectation(wanted.name + "=" + value, names);
    if (!expected) return expected.error();
    if (differences_from(*expected, came.lines).empty()) return std::optional<std::string>{};
  }
  return has(join(wanted.any_of, " or "));
}

}  // namespace

Result<std::vector<std::string>> differences(const Expectation& expected, const Came& came,
                                             const dictionary::Catalogue& names) {
  std::vector<std::string> out;
  const bool right = expected.codes.empty() || std::find(expected.codes.begin(), expected.codes.end(),
                                                         came.code) != expected.codes.end();
  if (!right) {
    out.push_back(fmt::format("expected {}, came {}{}", join(expected.codes, " or "),
                              came.code == "none" ? "no answer" : came.code,
                              came.problem.empty() ? "" : " (" + came.problem + ")"));
    return out;
  }
  for (const Wanted& wanted : expected.reply) {
    const auto differs = compare(wanted, came, names);
    if (!differs) return differs.error();
    if (*differs) out.push_back(**differs);
  }
  for (const std::string& name : expected.absent) {
    const auto expected_absent = read_expectation(name + "=", names);
    if (!expected_absent) return expected_absent.error();
    for (std::string& one : differences_from(*expected_absent, came.lines)) out.push_back(std::move(one));
  }
  if (expected.within && came.code != "none" && came.took > *expected.within)
    out.push_back(fmt::format("the answer took {:.1f} ms, expected {} at the most",
                              static_cast<double>(came.took.count()) / 1000, text_of(*expected.within)));
  return out;
}

std::vector<std::string> share_differences(const Expectation& expected,
                                           const std::map<std::string, std::uint64_t>& got) {
  std::vector<std::string> out;
  std::set<std::string> groups;  // the others do not matter
  for (const auto& [server, percent] : expected.shares) groups.insert(server.substr(0, server.find('/')));
  std::uint64_t total = 0;
  for (const auto& [server, requests] : got)
    if (groups.contains(server.substr(0, server.find('/')))) total += requests;
  for (const auto& [server, percent] : expected.shares) {
    const auto found = got.find(server);
    const double had = found == got.end() || total == 0
                           ? 0
                           : 100.0 * static_cast<double>(found->second) / static_cast<double>(total);
    if (std::abs(had - percent) > expected.tolerance)
      out.push_back(fmt::format("{} got {:.1f} % of {}, expected {} % ± {}", server, had,
                                counted(total, "request"), percent, expected.tolerance));
  }
  return out;
}

}  // namespace jembatan::cli
