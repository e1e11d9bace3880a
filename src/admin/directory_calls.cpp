#include "admin/directory_calls.h"

#include <nlohmann/json.hpp>

#include "admin/answers.h"
#include "base/text.h"
#include "decide/decide.h"
#include "directory/check.h"
#include "host/name_lookup.h"
#include "host/system.h"
#include "server/directories.h"
#include "wire/builder.h"

namespace jembatan::admin {
namespace {

using nlohmann::json;

json json_of(const server::DirectoryStanding& one) {
  json servers = json::array();
  for (const auto& server : one.servers) {
    servers.push_back({{"url", server.url},
                       {"state", !server.since        ? "not asked yet"
                                 : server.why.empty() ? "up"
                                                      : "down"},
                       {"since", server.since ? json(text_of(*server.since)) : json()},
                       {"why", server.why}});
  }
  return {{"servers", std::move(servers)}, {"waiting", one.waiting},     {"remembered", one.remembered},
          {"looked_up", one.looked_up},    {"by_memory", one.by_memory}, {"unanswered", one.unanswered}};
}

// The same name forms and aliases as for a sign-in.
directory::Wanted wanted_of(const plan::Plan& plan, const std::string& name) {
  wire::PacketBuilder packet(wire::Code::access_request, 0, {});
  if (!packet.add(wire::AttributeType::user_name, std::string_view(name))) return {name, "", name};
  const auto view = wire::PacketView::parse(packet.finish());
  const plan::Client nobody;
  const decide::Way way = decide::identify({plan, *view, nobody});
  return {way.user, way.realm, way.full_name};
}

Result<std::string> addresses_of(const std::string& host) {
  if (IpAddress::parse(host)) return host;
  const auto found = host::look_up(host);
  if (!found) return found.error();
  std::vector<std::string> texts;
  for (const IpAddress& address : found->addresses) texts.push_back(address.text());
  return join(texts, ", ");
}

}  // namespace

void list_directories(const Asked& asked) {
  const auto live = asked.server.plan();
  json list = json::array();
  for (const plan::Directory& directory : live->plan->directories) {
    json row = json_of(asked.server.directories().standing(directory));
    row["name"] = directory.name;
    list.push_back(std::move(row));
  }
  answer(asked.response, {{"directories", list}, {"plan_revision", live->revision}});
}

void check_directory(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"directory", "user", "password"});
  if (!body) return;
  std::array<std::string, 3> parts;
  static constexpr std::array<const char*, 3> kKeys{"directory", "user", "password"};
  for (std::size_t i = 0; i < parts.size(); ++i) {
    auto text = text_in(*body, kKeys[i]);
    if (!text) return problem(asked.response, text.error());
    parts[i] = std::move(*text);
  }
  const auto live = asked.server.plan();
  const auto place = place_of(live->plan->directories, parts[0], "directory");
  if (!place) return problem(asked.response, place.error());
  directory::CheckWish wish;
  wish.now = host::SystemClock().now().wall;
  wish.resolve = addresses_of;
  if (!parts[1].empty()) wish.person = wanted_of(*live->plan, parts[1]);
  if (!parts[2].empty()) wish.typed = Secret(parts[2]);
  json steps = json::array();
  bool all = true;
  for (const directory::CheckStep& step : directory::check(live->plan->directories[*place], wish)) {
    static constexpr const char* kVerdicts[] = {"good", "doubtful", "bad"};
    all = all && step.verdict != directory::CheckStep::Verdict::bad;
    steps.push_back({{"step", step.what},
                     {"server", step.server},
                     {"verdict", kVerdicts[static_cast<std::size_t>(step.verdict)]},
                     {"text", step.text},
                     {"advice", step.advice}});
  }
  wipe(OctetSpan(reinterpret_cast<std::uint8_t*>(parts[2].data()), parts[2].size()));
  answer(asked.response, {{"directory", parts[0]}, {"right", all}, {"steps", steps}});
}

void forget_people(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"user"});
  if (!body) return;
  const auto user = text_in(*body, "user");
  if (!user) return problem(asked.response, user.error());
  answer(asked.response, {{"forgotten", asked.server.directories().forget(*user)}});
}

}  // namespace jembatan::admin
