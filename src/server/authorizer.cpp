#include "server/authorizer.h"

#include <future>

namespace jembatan::server {

Authorizer::Authorizer(Parts parts, std::vector<Listener> listeners, const std::vector<IpAddress>& send_from)
    : plan_(parts.plan),
      sessions_(std::move(parts.sessions)),
      authorization_(
          {listening(listeners), *sessions_, std::move(parts.loop_mark), host::SystemClock().now()}, random_,
          counters_),
      thread_({.name = "authorizer",
               .on_reply =
                   [this](std::uint16_t lane, const Received& datagram, const engine::Turn& turn) {
                     authorization_.on_reply(lane, datagram.from, datagram.octets, turn);
                   },
               .on_timer = [this](const engine::Turn& turn) { authorization_.on_timer(turn); },
               .next_deadline = [this] { return authorization_.next_deadline(); },
               .listeners = std::move(listeners),
               .on_request =
                   [this](std::uint16_t door, const Received& in, const engine::Turn& turn) {
                     authorization_.handle({door, in.from, in.to, in.octets}, turn);
                   }},
              parts.events, parts.tap, send_from) {}

Authorizer::~Authorizer() {
  stop();
}

void Authorizer::start() {
  authorization_.use(plan_.current());
  thread_.start();
}

void Authorizer::new_plan() {
  thread_.post([this](const engine::Turn&) { authorization_.use(plan_.current()); });
}

Result<engine::SessionAnswer> Authorizer::ask(engine::SessionRequest request) {
  auto came = std::make_shared<std::promise<engine::SessionAnswer>>();
  auto result = came->get_future();
  thread_.post([this, came, request = std::move(request)](const engine::Turn& turn) {
    authorization_.ask(request, turn, [came](const engine::SessionAnswer& answer, const engine::Turn&) {
      came->set_value(answer);
    });
  });
  came.reset();
  try {
    return result.get();
  } catch (const std::future_error&) {  // nobody will answer any more
    return fail(Errc::unreachable, "the node is being stopped");
  }
}

void Authorizer::stop() {
  thread_.stop([this](const engine::Turn& turn) { authorization_.stop(turn); });
}

}  // namespace jembatan::server
