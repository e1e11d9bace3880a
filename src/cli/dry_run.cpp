#include "cli/dry_run.h"

#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::cli {

using rehearsal::Step;

DryRun::DryRun(plan::PlanPtr plan, std::string at) : plan_(std::move(plan)), at_(std::move(at)) {
  engine::Settings settings;
  settings.listeners = {{forward::Purpose::access, {}}, {forward::Purpose::accounting, {}}};
  engine_.emplace(std::move(settings), random_, counters_);
  engine_->use(board_.go_live(plan_, 1), {clock_.now(), actions_});
}

CaseResult DryRun::run(const rehearsal::Case& one) {
  CaseResult result;
  result.of = &one;
  std::size_t ran = 0;
  std::size_t passed_over = 0;
  const auto began = std::chrono::steady_clock::now();
  for (std::size_t i = 0; i < one.steps.size() && result.failures.empty(); ++i) {
    const Step& step = one.steps[i];
    if (step.kind == Step::Kind::fault) {  // what is expected from here on is expected of a chain in trouble
      passed_over += one.steps.size() - i;
      break;
    }
    const bool needs_others = step.kind == Step::Kind::until || step.kind == Step::Kind::disconnect ||
                              step.kind == Step::Kind::change;
    if (needs_others || (!at_.empty() && step.node != at_)) {
      ++passed_over;
      continue;
    }
    ++ran;
    const Status done = run_step(step, result, i + 1);
    if (!done) result.failures.push_back({i + 1, step.at, done.error().text, ""});
  }
  result.took =
      std::chrono::duration_cast<std::chrono::microseconds>(std::chrono::steady_clock::now() - began);
  if (ran == 0) result.skipped = "no step that this plan decides without the wire";
  if (ran > 0 && passed_over > 0) result.note = counted(passed_over, "step") + " passed over";
  return result;
}

Status DryRun::run_step(const Step& step, CaseResult& result, std::size_t number) {
  const auto decided = decide(step, number);
  if (!decided) return decided.error();
  result.answers.push_back(decided->came.took);
  std::vector<std::string> differ;
  if (!decided->elsewhere.empty()) {
    result.note = decided->elsewhere + " is not known here";
  } else if (decided->group.empty()) {
    rehearsal::Expectation expected = step.expect;
    expected.within.reset();  // there is no wire that could be slow
    auto found = differences(expected, decided->came, *plan_->catalogue);
    if (!found) return found.error();
    differ = std::move(*found);
    if (differ.empty() && !step.expect.server.empty())
      differ.push_back(fmt::format("expected an answer of {}, but it is decided here", step.expect.server));
  } else {
    const std::string group = step.expect.server.substr(0, step.expect.server.find('/'));
    if (!group.empty() && group != decided->group)
      differ.push_back(fmt::format("expected an answer of {}, but it goes to group {}", step.expect.server,
                                   decided->group));
    result.note = "what group " + decided->group + " would answer is not known here";
  }
  if (differ.empty()) return {};
  std::string look;
  if (const plan::Client* client = client_of(step); client != nullptr && step.kind == Step::Kind::access)
    look = fmt::format("jembatan explain --client {} --user {} --plan FOLDER", client->name, step.user);
  result.failures.push_back({number, step.at, join(differ, "\n"), look});
  return {};
}

// The one that is named, or the one that this machine is.
const plan::Client* DryRun::client_of(const Step& step) const {
  if (!step.client.empty()) return plan_->client_named(step.client);
  return plan_->client_at(*IpAddress::parse("127.0.0.1"));
}

Result<DryRun::Decided> DryRun::decide(const Step& step, std::size_t number) {
  const plan::Client* client = client_of(step);
  if (client == nullptr)
    return fail(Errc::not_found,
                step.client.empty()
                    ? "the plan has no client of this machine (127.0.0.1): name one with 'client'"
                    : fmt::format("the plan has no client '{}'", escaped(step.client)));
  const Arguments options = options_of_request(step, 0, fmt::format("rehearsal-{}", number));
  auto question = Question::offline(options, step.kind, {client->secret, plan_->catalogue});
  if (!question) return question.error();
  auto exchanged = question->packet();
  if (!exchanged) return exchanged.error();
  const Endpoint from{client->address.address, next_port_++};
  const std::uint16_t listener = step.kind == Step::Kind::accounting ? 1 : 0;
  Decided out;
  handle({listener, from, {}, exchanged->request}, out);
  for (const std::string& answer : step.answers) {
    const auto reply = reply_of_now();
    if (!reply || reply->code() != wire::Code::access_challenge) break;
    auto next = question->answer_packet(*reply, Secret(answer));
    if (!next) return next.error();
    *exchanged = std::move(*next);
    handle({listener, from, {}, exchanged->request}, out);
  }
  if (!actions_.asks.empty()) {
    const Endpoint to = actions_.asks.front().to;
    for (const plan::Group& group : plan_->groups)
      for (const plan::Server& server : group.servers)
        if (forward::endpoint_of(server, forward::Purpose::access) == to && out.group.empty())
          out.group = group.name;
    engine_->stop({clock_.now(), actions_});
    return out;
  }
  if (const auto reply = reply_of_now()) {
    exchanged->result.ended = Ended::replied;
    exchanged->result.reply.assign(reply->octets().begin(), reply->octets().end());
  }
  out.came = came_of(*exchanged, *plan_->catalogue);
  if (!actions_.events.empty()) out.came.problem = engine::reason_text(actions_.events.back());
  return out;
}

void DryRun::handle(const engine::Datagram& in, Decided& out) {
  actions_.clear();
  engine_->handle(in, {clock_.now(), actions_});
  carry_out(out);
}

std::optional<wire::PacketView> DryRun::reply_of_now() const {
  if (actions_.replies.empty()) return std::nullopt;
  return *wire::PacketView::parse(actions_.view(actions_.replies.front().packet));
}

engine::Judged DryRun::judged(const engine::Job::Judge& job) {
  const auto tokens = job.plan->tokens_of(job.user, job.factor);
  identity::CodePage& page = pages_[{job.factor, job.user}];
  return {identity::judge(page, tokens, text_of(job.typed.reveal()), job.plan->factors[job.factor].limits,
                          job.now)};
}

// Passwords are compared here and now, codes judged by those that came before; records are taken for kept; no
// directory is asked.
void DryRun::carry_out(Decided& out) {
  while (!actions_.jobs.empty()) {
    const auto jobs = std::exchange(actions_.jobs, {});
    for (const engine::Job& job : jobs) {
      if (const auto* look_up = std::get_if<engine::Job::LookUp>(&job.work))
        out.elsewhere = "what directory " + look_up->plan->directories[look_up->directory].name + " says";
      const auto* compare = std::get_if<engine::Job::Compare>(&job.work);
      engine::JobResult result = engine::NotDone{"it is not asked here"};
      if (std::holds_alternative<engine::Job::Record>(job.work)) result = accounting::Kept{1, false};
      if (const auto* judge = std::get_if<engine::Job::Judge>(&job.work)) result = judged(*judge);
      if (compare != nullptr) result = engine::Compared{compare->stored->matches(compare->typed.reveal())};
      engine_->on_done(job.ticket, result, {clock_.now(), actions_});
    }
  }
}

}  // namespace jembatan::cli
