#include "server/prober.h"

#include <asio/post.hpp>

#include "host/process.h"
#include "server/log.h"

namespace jembatan::server {

Prober::Prober(Parts parts, const std::vector<IpAddress>& send_from, std::string name)
    : parts_(parts),
      probing_(random_, std::move(name)),
      lanes_(
          io_, send_from, parts.tap,
          [this](std::uint16_t lane, const Received& datagram) {
            probing_.on_reply(lane, datagram.from, datagram.octets, turn());
          },
          [this] { carry_out(); }) {}

Prober::~Prober() {
  stop();
}

void Prober::start() {
  new_plan();
  thread_ = std::thread([this] {
    host::name_thread("prober");
    io_.run();
  });
}

void Prober::new_plan() {
  asio::post(io_, [this] {
    live_ = parts_.plan.current();
    probing_.use(live_, clock_.now().steady);
    probing_.on_timer(turn());
    carry_out();
  });
}

void Prober::look() {
  if (look_waits_.exchange(true)) return;
  asio::post(io_, [this] {
    look_waits_ = false;
    probing_.look(turn());
    carry_out();
  });
}

Result<engine::ProbeResult> Prober::ask(const forward::LivePlanPtr& of, engine::ProbeQuestion question) {
  auto came = std::make_shared<std::promise<Result<engine::ProbeResult>>>();
  auto result = came->get_future();
  asio::post(io_, [this, of, came, question = std::move(question)] {
    if (of != live_) return came->set_value(fail(Errc::conflict, "another plan is in force by now"));
    const Status asked =
        probing_.ask(question, turn(),
                     [came](const engine::ProbeResult& what, const engine::Turn&) { came->set_value(what); });
    if (!asked) came->set_value(asked.error());
    carry_out();
  });
  constexpr std::chrono::seconds kLongest{15};  // groups may wait for minutes; nobody who looks does
  if (result.wait_for(kLongest) != std::future_status::ready) return engine::ProbeResult{};
  try {
    return result.get();
  } catch (const std::future_error&) {  // nobody will answer any more
    return fail(Errc::unreachable, "the node is being stopped");
  }
}

void Prober::carry_out() {
  if (!actions_.asks.empty()) {
    if (const Status sent = lanes_.send(actions_); !sent) log_error(sent.error().at("probing").text);
  }
  parts_.events.take(actions_.events, actions_.notices);
  actions_.clear();
  set_timer();
}

void Prober::set_timer() {
  const auto deadline = probing_.next_deadline();
  timer_.cancel();
  if (!deadline) return;
  timer_.expires_at(*deadline);
  timer_.async_wait([this](const asio::error_code& error) {
    if (error) return;
    probing_.on_timer(turn());
    carry_out();
  });
}

void Prober::stop() {
  if (!thread_.joinable()) return;
  asio::post(io_, [this] {
    timer_.cancel();
    probing_.stop();
    lanes_.close();
    work_.reset();
    io_.stop();
  });
  thread_.join();
}

}  // namespace jembatan::server
