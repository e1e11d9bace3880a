// What would become of a request: by what is taken for granted, or by what directories and tokens say now.
#include "admin/explain_calls.h"

#include <future>
#include <nlohmann/json.hpp>

#include "admin/answers.h"
#include "base/text.h"
#include "decide/explain.h"
#include "engine/online.h"
#include "engine/slowdown.h"
#include "host/system.h"
#include "identity/name.h"
#include "server/code_judge.h"
#include "server/directories.h"

namespace jembatan::admin {
namespace {

using decide::Assumed;
using nlohmann::json;

/// A request that nobody has sent, and the plan that it is decided by.
struct Imagined {
  forward::LivePlanPtr live;
  const plan::Client* client = nullptr;
  Octets octets;
  std::optional<wire::PacketView> packet;
  WallTime at;
  std::string assume;

  bool accounting() const { return packet->code() == wire::Code::accounting_request; }
};

// Nothing, with a problem answered, if it cannot be understood.
std::optional<Imagined> imagined_in(const Asked& asked, const std::vector<std::string>& keys) {
  const auto body = read_body(asked.request, asked.response, keys);
  if (!body) return std::nullopt;
  const auto refuse = [&](const std::string& why) {
    problem(asked.response, 400, "Not understood", why);
    return std::nullopt;
  };
  std::map<std::string, std::string> texts;
  for (const std::string& key : keys) {
    auto text = text_in(*body, key);
    if (!text) return refuse(text.error().text);
    texts[key] = std::move(*text);
  }
  Imagined out;
  out.live = asked.server.plan();
  const auto client = plan::find_client(*out.live->plan, texts["client"]);
  if (!client) {
    problem(asked.response, client.error());
    return std::nullopt;
  }
  out.client = *client;
  auto octets = from_hex(texts["packet"]);
  if (!octets) return refuse(octets.error().at("packet").text);
  out.octets = std::move(*octets);
  const auto packet = wire::PacketView::parse(out.octets);
  if (!packet) return refuse(packet.error().at("packet").text);
  out.packet = *packet;
  out.at = host::SystemClock().now().wall;
  if (!texts["at"].empty()) {
    const auto given = parse_moment(texts["at"], out.at);
    if (!given) return refuse(given.error().at("at").text);
    out.at = *given;
  }
  out.assume = texts["assume"];
  return out;
}

json explained(const Asked& asked, const Imagined& in, const Assumed& assumed, json& factors) {
  decide::OnlyLooking elsewhere(asked.server.online());
  const auto explanation =
      decide::explain({*in.live->plan, *in.packet, *in.client, in.accounting(), in.at, &elsewhere}, assumed);
  json trail = json::array();
  for (const std::string& line : explanation.lines) trail.push_back(line);
  factors = explanation.factors;
  return {{"outcome", decide::name_of(explanation.outcome)},
          {"summary", explanation.summary},
          {"trail", std::move(trail)},
          {"plan_revision", in.live->revision}};
}

// What the directory of the realm says of somebody who is not in the plan; null: none is asked.
decide::PersonPtr person_of(const Asked& asked, const Imagined& in) {
  constexpr Duration kLongest{20000};
  const plan::Plan& plan = *in.live->plan;
  const decide::Way way = decide::find_way({plan, *in.packet, *in.client, in.accounting(), in.at});
  const plan::Directory* directory = decide::directory_of(plan, way);
  if (directory == nullptr || plan.user_named(way.full_name) != nullptr) return nullptr;
  const auto servers = static_cast<int>(directory->access.servers.size());
  const Duration within = std::min(kLongest, directory->access.answer_within * (servers + 2));
  engine::Job::LookUp job{in.live->plan, *way.entry->directory, way.user, way.realm, way.full_name, {}, false,
                          within};
  const auto said = std::make_shared<std::promise<decide::PersonPtr>>();
  asked.server.directories().look_up(std::move(job),
                                     [said](engine::LookedUp found) { said->set_value(found.person); });
  auto coming = said->get_future();
  if (coming.wait_for(within + Duration{1000}) == std::future_status::ready) return coming.get();
  decide::Person nobody;
  nobody.why = "it was not done in time";
  return std::make_shared<const decide::Person>(std::move(nobody));
}

// Tokens and locks of a user, factor by factor.
json factors_of(const Asked& asked, const Imagined& in, const std::string& user, Assumed& assumed) {
  json out = json::object();
  const plan::Plan& plan = *in.live->plan;
  for (std::size_t i = 0; i < plan.factors.size(); ++i) {
    const std::string& name = plan.factors[i].name;
    json tokens = json::array();
    for (const identity::Token& token : plan.tokens_of(user, i)) tokens.push_back(token.name);
    const auto page = tokens.empty() ? Result<identity::CodePage>(identity::CodePage{})
                                     : asked.server.codes().page(name, user);
    std::string trouble = page ? "" : page.error().text;
    if (page && in.at < page->locked_until) trouble = "locked until " + second_text(page->locked_until);
    if (!trouble.empty()) assumed.factors_locked[name] = trouble;
    out[name] = {{"factor", name},
                 {"tokens", std::move(tokens)},
                 {"wrong", page ? page->wrong : 0},
                 {"trouble", trouble}};
  }
  return out;
}

}  // namespace

void explain(const Asked& asked) {
  const auto in = imagined_in(asked, {"client", "packet", "assume", "at"});
  if (!in) return;
  const auto assumed = decide::assumed_in(in->assume);
  if (!assumed) return problem(asked.response, 400, "Not understood", assumed.error().at("assume").text);
  json factors;
  answer(asked.response, explained(asked, *in, *assumed, factors));
}

void check_user(const Asked& asked) {
  const auto in = imagined_in(asked, {"client", "packet", "at"});
  if (!in) return;
  const plan::Plan& plan = *in->live->plan;
  const decide::Way way = decide::identify({plan, *in->packet, *in->client});
  Assumed assumed;
  assumed.person = person_of(asked, *in);
  const json standing = factors_of(asked, *in, way.full_name, assumed);
  json wanted;
  json body = explained(asked, *in, assumed, wanted);
  json factors = json::array();
  for (const json& name : wanted) factors.push_back(standing.at(name.get<std::string>()));
  const auto station = wire::text_in(in->packet->find(wire::AttributeType::calling_station_id));
  const plan::User* known = plan.user_named(way.full_name);
  const auto wait = asked.server.slowdown().wait(
      {known == nullptr ? way.full_name : known->name, in->client->name, station}, plan.sign_in,
      host::SystemClock().now().steady);
  body["user"] = way.full_name;
  body["factors"] = std::move(factors);
  body["passwords_wait"] = wait ? json(text_of(*wait)) : json();
  answer(asked.response, body);
}

}  // namespace jembatan::admin
