// The life of a request, as named steps from top to bottom. What is decided on the way, decide::Course says.
#include "base/text.h"
#include "engine/client_check.h"
#include "engine/engine.h"
#include "engine/resume.h"

namespace jembatan::engine {

using forward::Purpose;
using wire::AttributeType;
using wire::Code;
using wire::PacketView;

namespace {

constexpr Duration kRecordWithin{60000};  // clients ask again much earlier

}  // namespace

void Engine::handle(const Datagram& in, const Turn& turn) {
  owner_.check();
  counters_.received();
  const forward::LivePlanPtr& live = live_;  // one plan for the whole request
  const plan::Client* client = live->plan->client_at(in.from.address);
  if (auto why = turned_away(client, settings_.listeners[in.listener], in))
    return drop(in, client, std::move(*why), turn);
  const Result<PacketView> packet = PacketView::parse(in.octets);  // RFC 2865 §3
  if (!packet) {
    return drop(in, client, {Outcome::malformed, "not a well-formed packet", packet.error().text}, turn);
  }
  const auto which_secret = verify(*packet, *client, in, turn);
  if (!which_secret) return;
  if (client->old_secret) live->activity_of(*client).verified(*which_secret, turn.now.wall);
  const Repeats::Key key{in.from, in.listener, packet->identifier()};
  const Repeats::Found before = repeats_.look(key, packet->octets(), turn.now.steady);  // RFC 5080 §2.2.2
  const Request request{*packet, in, live, *client, *which_secret, before.handle, turn.now, turn};
  if (before.replaced) cancel(*before.replaced, {Outcome::superseded, kSuperseded}, turn);
  if (before.seen == Repeats::Seen::answered)
    turn.out.replies.push_back({in.listener, in.from, in.to, turn.out.keep(before.reply)});
  if (auto ending = not_the_first(before.seen)) return tell(request, std::move(*ending));
  if (auto ending = too_many(*client, live->activity_of(*client), turn.now))
    return no_reply(request, std::move(*ending));
  if (packet->code() == Code::status_server) return answer_status(request);
  take_course(request);
}

void Engine::answer_status(const Request& request) {
  const bool access = settings_.listeners[request.in.listener].purpose == Purpose::access;
  reply(request, access ? Code::access_accept : Code::accounting_response, {},
        {Outcome::status_answered, "the server is alive"});
}

void Engine::take_course(const Request& request) {
  const bool accounting = request.packet.code() == Code::accounting_request;
  decide::Course course({*request.live->plan, request.packet, request.client, accounting,
                         request.arrived.wall, settings_.elsewhere.get()},
                        {{request.secret(), request.packet.authenticator()}, random_}, random_);
  std::vector<Given> given;
  std::optional<Conversation> conversation;
  if (const auto state = request.packet.find(AttributeType::state); state && !accounting)
    conversation = conversations_->take(state->value, request.client.name, request.turn.now.steady);
  if (conversation && conversation->resumed) {
    course.resume(conversation->resumed);
    given.push_back({request.age(), conversation->resumed});
  }
  Request with = request;
  with.course = &course;
  with.given = &given;
  with.conversation = &conversation;
  carry_on(with, course.begin());
}

void Engine::carry_on(const Request& request, Next next) {
  switch (next.what) {
    case Next::What::reply:
      return reply(request, next.code, next.attributes, std::move(next.ending));
    case Next::What::drop:
      return no_reply(request, std::move(next.ending));
    case Next::What::look_up:
      return look_up(request);
    case Next::What::prove:
      return prove(request);
    case Next::What::factor:
      return prove_factor(request);
    case Next::What::record:
      return record(request);
    case Next::What::ask:
      return ask(request);
  }
}

// The answer leaves when the record is durable.
void Engine::record(const Request& request) {
  const decide::Way& way = request.course->way();
  auto made = accounting::arrival_of(request.course->packet(), {request.client.name, request.in.from.address},
                                     escaped(way.realm), request.turn.now.wall);
  if (!made)
    return give(request,
                decide::Failure{{Outcome::malformed, "not an accounting record", made.error().text}});
  accounting::Incoming incoming{std::move(*made), way.accounting.here, {}};
  for (const std::size_t group : way.accounting.groups)
    incoming.groups.push_back(request.live->plan->groups[group].name);
  if (const auto ticket = wait(request, kRecordWithin))
    request.turn.out.jobs.push_back({*ticket, Job::Record{std::move(incoming)}});
}

}  // namespace jembatan::engine
