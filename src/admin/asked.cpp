#include "admin/asked.h"

#include <fmt/format.h>

#include "admin/answers.h"
#include "base/text.h"
#include "host/system.h"

namespace jembatan::admin {
namespace {

constexpr std::size_t kSecretLength = 32;

}  // namespace

WallTime now() {
  return host::SystemClock().now().wall;
}

bool changed_by_commands(const Asked& asked) {
  const auto& folder = asked.server.settings().plan_folder;
  if (folder.empty()) return true;
  problem(asked.response, 409, "The plan comes from a folder",
          fmt::format(
              "node {} takes its plan from the folder '{}': change it there, then `jembatan plan reload`. To "
              "change it by commands, take plan_folder out of the node file and restart",
              asked.server.settings().name, folder.string()));
  return false;
}

std::string new_secret() {
  return host::SystemRandom().letters(kSecretLength);
}

revision::AuditEntry audit_entry(const Asked& asked, std::string action, std::string subject,
                                 std::string detail) {
  return {0,
          now(),
          asked.caller.name,
          std::string(revision::name_of(asked.caller.role)),
          asked.caller.from,
          std::move(action),
          std::move(subject),
          std::move(detail)};
}

Result<revision::Applied> make_change(const Asked& asked, const std::vector<revision::Edit>& edits,
                                      const revision::Wish& wish, document::Problems& problems) {
  return asked.server.change_plan([&](revision::Keeper& keeper) {
    plan::Outside outside;
    outside.resolve = [&](const std::string& host) { return asked.server.hosts().addresses_of(host); };
    outside.now = now();
    return keeper.change(edits, std::move(outside), wish, problems);
  });
}

Error not_found(std::string_view kind, std::string_view name, const std::vector<std::string>& names) {
  const auto near = nearest(name, names);
  return fail(Errc::not_found, fmt::format("{} '{}' not found{}", kind, escaped(name),
                                           near ? fmt::format("; nearest: '{}'", escaped(*near)) : ""));
}

}  // namespace jembatan::admin
