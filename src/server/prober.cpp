#include "server/prober.h"

#include <future>

namespace jembatan::server {

Prober::Prober(Parts parts, const std::vector<IpAddress>& send_from, std::string name)
    : plan_(parts.plan),
      probing_(random_, std::move(name)),
      thread_({.name = "prober",
               .on_reply =
                   [this](std::uint16_t lane, const Received& datagram, const engine::Turn& turn) {
                     probing_.on_reply(lane, datagram.from, datagram.octets, turn);
                   },
               .on_timer = [this](const engine::Turn& turn) { probing_.on_timer(turn); },
               .next_deadline = [this] { return probing_.next_deadline(); }},
              parts.events, parts.tap, send_from) {}

Prober::~Prober() {
  stop();
}

void Prober::start() {
  new_plan();
  thread_.start();
}

void Prober::new_plan() {
  thread_.post([this](const engine::Turn& turn) {
    live_ = plan_.current();
    probing_.use(live_, turn.now.steady);
    probing_.on_timer(turn);
  });
}

void Prober::look() {
  if (look_waits_.exchange(true)) return;
  thread_.post([this](const engine::Turn& turn) {
    look_waits_ = false;
    probing_.look(turn);
  });
}

Result<engine::ProbeResult> Prober::ask(const forward::LivePlanPtr& of, engine::ProbeQuestion question) {
  auto came = std::make_shared<std::promise<Result<engine::ProbeResult>>>();
  auto result = came->get_future();
  thread_.post([this, of, came, question = std::move(question)](const engine::Turn& turn) {
    if (of != live_) return came->set_value(fail(Errc::conflict, "another plan is in force by now"));
    const Status asked =
        probing_.ask(question, turn,
                     [came](const engine::ProbeResult& what, const engine::Turn&) { came->set_value(what); });
    if (!asked) came->set_value(asked.error());
  });
  came.reset();
  constexpr std::chrono::seconds kLongestLook{15};  // groups may wait for minutes; nobody who looks does
  if (result.wait_for(kLongestLook) != std::future_status::ready) return engine::ProbeResult{};
  try {
    return result.get();
  } catch (const std::future_error&) {  // nobody will answer any more
    return fail(Errc::unreachable, "the node is being stopped");
  }
}

void Prober::stop() {
  thread_.stop([this](const engine::Turn&) { probing_.stop(); });
}

}  // namespace jembatan::server
