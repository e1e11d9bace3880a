#include "admin/server_calls.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "admin/answers.h"
#include "admin/json.h"
#include "base/text.h"
#include "engine/neighbour.h"
#include "forward/standing.h"
#include "host/system.h"
#include "server/prober.h"

namespace jembatan::admin {
namespace {

using forward::Purpose;
using nlohmann::json;

// What is very likely wrong, and where to look.
std::string advice_of(const engine::ProbeQuestion& question, const engine::ProbeResult& result) {
  if (!result.problem.empty())
    return fmt::format("it answers, but {}: compare with what the server has for this node", result.problem);
  if (!result.answered)
    return std::string(engine::kWhySilent) +
           (question.user.empty() ? "; some servers answer no Status-Server" : "");
  if (!question.user.empty() && result.code == wire::Code::access_reject)
    return "the server lives and refuses this user: its own log says why";
  return {};
}

json json_of(const engine::ProbeQuestion& question, const Result<engine::ProbeResult>& result,
             const Endpoint& at) {
  json out{{"purpose", forward::name_of(question.purpose)},
           {"address", at.text()},
           {"question", question.user.empty() ? "Status-Server" : "sign-in"},
           {"answered", result && result->answered}};
  if (!question.user.empty()) out["user"] = question.user;
  if (!result) {
    out["advice"] = result.error().text;
    return out;
  }
  if (result->answered) {
    out["code"] = wire::name_of(result->code);
    out["milliseconds"] = static_cast<double>(result->took.count()) / 1000;
  }
  if (std::string advice = advice_of(question, *result); !advice.empty()) out["advice"] = std::move(advice);
  return out;
}

}  // namespace

void list_servers(const Asked& asked) {
  const auto live = asked.server.plan();
  json list = json::array();
  for (const forward::Standing& one : forward::standings(*live, host::SystemClock().now()))
    list.push_back(json_of(one));
  answer(asked.response, {{"servers", list}, {"plan_revision", live->revision}});
}

void list_mirrors(const Asked& asked) {
  json list = json::array();
  for (const engine::MirrorTally& one : asked.server.mirrors()) list.push_back(json_of(one));
  answer(asked.response, {{"mirrors", list}});
}

void check_server(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"group", "server", "user", "password"});
  if (!body) return;
  std::array<std::string, 4> parts;
  static constexpr std::array<const char*, 4> kKeys{"group", "server", "user", "password"};
  for (std::size_t i = 0; i < parts.size(); ++i) {
    auto text = text_in(*body, kKeys[i]);
    if (!text) return problem(asked.response, text.error());
    parts[i] = std::move(*text);
  }
  const auto live = asked.server.plan();
  const auto group = place_of(live->plan->groups, parts[0], "group");
  if (!group) return problem(asked.response, group.error());
  const plan::Group& asked_group = live->plan->groups[*group];
  const auto server = place_of(asked_group.servers, parts[1], "server");
  if (!server) return problem(asked.response, server.error());
  std::vector<engine::ProbeQuestion> questions;
  for (const Purpose purpose : forward::kPurposesOfGroups)
    if (forward::uses(*live->plan, *group, purpose)) questions.push_back({*group, *server, purpose});
  if (questions.empty()) questions.push_back({*group, *server, Purpose::access});
  if (!parts[2].empty())
    questions.push_back({*group, *server, Purpose::access, parts[2], Secret(std::move(parts[3]))});
  json steps = json::array();
  for (const engine::ProbeQuestion& question : questions)
    steps.push_back(json_of(question, asked.server.prober().ask(live, question),
                            forward::endpoint_of(asked_group.servers[*server], question.purpose)));
  answer(asked.response, {{"group", parts[0]}, {"server", parts[1]}, {"steps", steps}});
}

}  // namespace jembatan::admin
