#include "engine/probing.h"

#include <algorithm>
#include <set>

#include "engine/neighbour.h"
#include "forward/standing.h"
#include "wire/authenticator.h"
#include "wire/builder.h"
#include "wire/hidden.h"

namespace jembatan::engine {

using forward::Purpose;
using forward::ServerHealth;
using wire::AttributeType;
using wire::Code;

void Probing::use(forward::LivePlanPtr live, TimePoint now) {
  owner_.check();
  live_ = std::move(live);
  targets_.clear();
  std::set<std::pair<Endpoint, Purpose>> seen;
  const plan::Plan& plan = *live_->plan;
  for (std::size_t g = 0; g < plan.groups.size(); ++g) {
    for (const Purpose purpose : forward::kPurposesOfGroups) {
      if (!plan.groups[g].probe.any() || !forward::uses(plan, g, purpose)) continue;
      for (std::size_t s = 0; s < plan.groups[g].servers.size(); ++s) {
        Target target{g, s, purpose, now, false};
        if (!health_of(target)->probed(plan.groups[g])) continue;
        if (!seen.emplace(forward::endpoint_of(plan.groups[g].servers[s], purpose), purpose).second) continue;
        targets_.push_back(target);
      }
    }
  }
}

// Every try_again_every, a tenth sooner or later, so that nodes that start together do not stay together.
TimePoint Probing::next_of(const Target& target, TimePoint now) {
  const std::chrono::nanoseconds interval = live_->plan->groups[target.group].try_again_every;
  const std::chrono::nanoseconds fifth = interval / 5;
  return now + interval - fifth / 2 + fifth * random_.below(1024) / 1024;
}

void Probing::look(const Turn& turn) {
  for (Target& target : targets_) {
    const ServerHealth& health = *health_of(target);
    if (health.silent_in_a_row() > 0 && !health.down()) target.next = std::min(target.next, turn.now.steady);
  }
  on_timer(turn);
}

void Probing::probe(Target& target, const Turn& turn) {
  const plan::Group& group = live_->plan->groups[target.group];
  const ServerHealth& health = *health_of(target);
  target.next = next_of(target, turn.now.steady);
  // Requests tell as well.
  if (health.state() == ServerHealth::State::up &&
      health.answered_within(group.try_again_every / 2, turn.now.steady))
    return;
  ProbeQuestion question{target.group, target.server, target.purpose};
  if (!group.probe.status_server) {
    question.user = group.probe.user;
    question.password = group.probe.password;
  }
  const forward::LivePlanPtr live = live_;
  const Status asked = ask(question, turn, [this, target, live](const ProbeResult& result, const Turn& then) {
    if (live == live_) probed(target, result, then);
  });
  target.under_way = asked.has_value();
}

// One that is silent is asked again at once, until it counts as down.
void Probing::probed(const Target& target, const ProbeResult& result, const Turn& turn) {
  const auto same = std::find_if(targets_.begin(), targets_.end(), [&](const Target& one) {
    return one.group == target.group && one.server == target.server && one.purpose == target.purpose;
  });
  same->under_way = false;
  if (result.answered) return;
  const plan::Group& group = live_->plan->groups[target.group];
  ServerHealth& health = *health_of(target);
  const plan::Server& server = group.servers[target.server];
  if (health.probe_unanswered(group, turn.now) == ServerHealth::Change::went_down)
    turn.out.notices.push_back(
        gone_down({full_name(group, server), server, target.purpose}, group, true, turn.now));
  if (!health.down()) same->next = turn.now.steady;
}

Status Probing::build(const ProbeQuestion& question, Exchange& exchange, Actions& out) {
  random_.fill(exchange.authenticator);
  wire::PacketBuilder packet(question.user.empty() ? Code::status_server : Code::access_request,
                             exchange.id.identifier, exchange.authenticator);
  Status built = packet.add_message_authenticator();
  if (built) built = packet.add(AttributeType::nas_identifier, name_);
  if (built && !question.user.empty()) {
    const auto hidden =
        wire::hide_password(question.password.reveal(), exchange.authenticator, exchange.server->secret);
    if (!hidden) return hidden.error();
    built = packet.add(AttributeType::user_name, question.user);
    if (built) built = packet.add(AttributeType::user_password, OctetView(*hidden));
  }
  if (!built) return built;
  const OctetSpan octets = packet.finish();
  wire::sign_request(octets, exchange.server->secret);
  out.asks.push_back({exchange.id.lane, exchange.at, out.keep(octets), exchange.server->source});
  return {};
}

Status Probing::ask(const ProbeQuestion& question, const Turn& turn, Done done) {
  owner_.check();
  const plan::Group& group = live_->plan->groups[question.group];
  Exchange exchange;
  exchange.live = live_;
  exchange.server = &group.servers[question.server];
  exchange.health = live_->health_of(question.group, question.purpose)[question.server];
  exchange.purpose = question.purpose;
  exchange.at = forward::endpoint_of(*exchange.server, question.purpose);
  const auto id = identifiers_.take(exchange.at, 0);
  if (!id) return fail(Errc::busy, "too many questions are under way at " + exchange.at.text());
  exchange.id = *id;
  exchange.asked = turn.now.steady;
  exchange.deadline = turn.now.steady + group.answer_within;
  exchange.done = std::move(done);
  if (const Status built = build(question, exchange, turn.out); !built) {
    identifiers_.release(exchange.at, *id);
    return built;
  }
  exchange.health->count_asked();
  exchanges_.push_back(std::move(exchange));
  return {};
}

void Probing::on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn) {
  owner_.check();
  const auto reply = wire::PacketView::parse(octets);
  if (!reply) return;
  const auto found = std::find_if(exchanges_.begin(), exchanges_.end(), [&](const Exchange& one) {
    return one.at == from && one.id == forward::ExchangeId{lane, reply->identifier()};
  });
  if (found == exchanges_.end()) return;
  const std::string_view problem =
      answers(reply->code(), forward::request_for(found->purpose))
          ? not_genuine(*reply, found->authenticator, *found->server, forward::request_for(found->purpose))
          : "a packet that answers no such request";
  if (!problem.empty()) {  // a better one may still come
    found->problem = problem;
    return;
  }
  const auto took = std::chrono::duration_cast<std::chrono::microseconds>(turn.now.steady - found->asked);
  if (found->health->answered(turn.now, took) == ServerHealth::Change::came_back) {
    const auto& groups = found->live->plan->groups;
    const auto group = std::find_if(groups.begin(), groups.end(), [&](const plan::Group& one) {
      return found->server >= one.servers.data() && found->server < one.servers.data() + one.servers.size();
    });
    turn.out.notices.push_back(
        up_again({full_name(*group, *found->server), *found->server, found->purpose}, turn.now));
  }
  end(static_cast<std::size_t>(found - exchanges_.begin()), {true, reply->code(), took}, turn);
}

void Probing::end(std::size_t exchange, const ProbeResult& result, const Turn& turn) {
  const Exchange ended = std::move(exchanges_[exchange]);
  exchanges_.erase(exchanges_.begin() + static_cast<std::ptrdiff_t>(exchange));
  identifiers_.release(ended.at, ended.id);
  ended.done(result, turn);
}

void Probing::on_timer(const Turn& turn) {
  owner_.check();
  for (std::size_t i = 0; i < exchanges_.size();) {
    if (exchanges_[i].deadline > turn.now.steady) {
      ++i;
    } else {
      end(i, {false, {}, {}, exchanges_[i].problem}, turn);
    }
  }
  for (Target& target : targets_) {
    if (!target.under_way && target.next <= turn.now.steady) probe(target, turn);
  }
}

std::optional<TimePoint> Probing::next_deadline() const {
  std::optional<TimePoint> out;
  const auto sooner = [&out](TimePoint at) { out = out ? std::min(*out, at) : at; };
  for (const Exchange& exchange : exchanges_) sooner(exchange.deadline);
  for (const Target& target : targets_)
    if (!target.under_way) sooner(target.next);
  return out;
}

}  // namespace jembatan::engine
