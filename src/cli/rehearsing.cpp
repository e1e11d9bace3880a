#include "cli/rehearsing.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <mutex>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/text.h"
#include "cli/device_step.h"
#include "host/system.h"
#include "lab/lab.h"
#include "wire/packet_digest.h"

namespace jembatan::cli {

using namespace std::chrono_literals;
using nlohmann::json;
using rehearsal::Case;
using rehearsal::Step;
using Clock = std::chrono::steady_clock;

namespace {

constexpr auto kLook = 20ms;          // between two looks at a node
constexpr auto kJournalWithin = 5s;   // it is written behind the answer
constexpr auto kRecoverWithin = 20s;  // servers that a case took down

template <class Condition>
Result<bool> poll(Duration within, Condition condition) {
  const auto until = Clock::now() + within;
  while (true) {
    const Result<bool> holds = condition();
    if (!holds || *holds) return holds;
    if (Clock::now() >= until) return false;
    std::this_thread::sleep_for(kLook);
  }
}

std::string numbered(std::string text, std::size_t number) {
  if (const std::size_t at = text.find("{n}"); at != std::string::npos)
    text.replace(at, 3, std::to_string(number));
  return text;
}

// How a person names the node in a command.
std::string where_text(const std::string& node) {
  return (options_of_node(node).has("--lab") ? "--lab " : "--node ") + node;
}

// One request with the rounds that follow it.
Result<Came> ask_once(const Step& step, const Question& question) {
  const auto began = Clock::now();
  auto exchanged = question.ask();
  for (const std::string& answer : step.answers) {
    if (!exchanged) break;
    const auto reply = exchanged->reply();
    if (!reply || reply->code() != wire::Code::access_challenge) break;
    auto next = question.answer(*reply, Secret(answer));
    exchanged = std::move(next);
  }
  if (!exchanged) return exchanged.error();
  Came out = came_of(*exchanged, question.names());
  out.took = std::chrono::duration_cast<std::chrono::microseconds>(Clock::now() - began);
  return out;
}

Result<Question> question_of(const Step& step, const Arguments& options) {
  switch (step.kind) {
    case Step::Kind::accounting:
      return Question::accounting(options);
    case Step::Kind::status:
      return Question::status(options);
    default:
      return Question::access(options);
  }
}

}  // namespace

Arguments options_of_node(const std::string& name) {
  Arguments out;
  const auto lab = lab::node_names();
  out.set(std::find(lab.begin(), lab.end(), name) != lab.end() ? "--lab" : "--node", name);
  return out;
}

Arguments options_of_request(const Step& step, std::size_t number, const std::string& session) {
  Arguments out = options_of_node(step.node);
  const auto set = [&out](const char* option, const std::string& value) {
    if (!value.empty()) out.set(option, value);
  };
  set("--client", step.client);
  set("--from", step.from);
  set("--user", numbered(step.user, number));
  set("--wait", text_of(step.wait));
  set("--tries", std::to_string(step.tries));
  if (step.kind == Step::Kind::access) {
    set("--method", step.method);
    if (!step.token.empty()) out.set("--token", step.token);
    if (step.password) {
      out.set("--password", std::string(jembatan::text_of(step.password->reveal())));
    } else {
      out.set("--no-password", "");
    }
    if (!step.sign) out.set("--unsigned", "");
  }
  if (step.kind == Step::Kind::accounting) {
    set("--status", step.record);
    set("--session-id", numbered(step.session.empty() ? session : step.session, number));
  }
  std::vector<std::string> attributes;
  for (const auto& [name, value] : step.send) attributes.push_back(name + "=" + value);
  out.set_positionals(std::move(attributes));
  return out;
}

Came came_of(const Exchanged& exchanged, const dictionary::Catalogue& names) {
  Came out;
  out.leg = wire::leg_of(*wire::PacketView::parse(exchanged.request));
  out.took = exchanged.result.took;
  const auto reply = exchanged.reply();
  if (reply) {
    out.code = wire::name_of(reply->code());
    out.lines = dictionary::describe(names, *reply);
  } else if (exchanged.result.ended == Ended::port_closed) {
    out.problem = "nobody listens there";
  } else if (exchanged.result.ended == Ended::not_genuine) {
    out.problem = "a reply that is not genuine: " + exchanged.result.problem;
  }
  return out;
}

Result<NodeClient*> Rehearsing::node(const std::string& name) {
  if (const auto known = nodes_.find(name); known != nodes_.end()) return &known->second;
  auto opened = NodeClient::open(options_of_node(name));
  if (!opened) return opened.error();
  return &nodes_.emplace(name, std::move(*opened)).first->second;
}

CaseResult Rehearsing::run(const Case& one) {
  host::SystemRandom random;
  Running running{one, "rehearsal-" + random.letters(10), {}, {}};
  running.result.of = &one;
  const auto began = Clock::now();
  for (std::size_t i = 0; i < one.steps.size() && running.result.failures.empty(); ++i) {
    const Status ran = run_step(one.steps[i], i + 1, running);
    if (!ran) running.result.failures.push_back({i + 1, one.steps[i].at, ran.error().text, ""});
  }
  running.result.took = std::chrono::duration_cast<std::chrono::microseconds>(Clock::now() - began);
  mend(running);
  return std::move(running.result);
}

Status Rehearsing::run_step(const Step& step, std::size_t number, Running& running) {
  switch (step.kind) {
    case Step::Kind::fault:
      running.faulted.push_back(step.node);
      nodes_.erase(step.node);  // it may be another process from now on
      return lab::set_fault(step.node, step.fault);
    case Step::Kind::until:
      return run_until(step, number, running);
    case Step::Kind::disconnect:
    case Step::Kind::change:
      return run_device(step, number, running);
    default:
      return run_requests(step, number, running);
  }
}

Status Rehearsing::run_until(const Step& step, std::size_t number, Running& running) {
  std::string last = "the node does not send to it";
  const auto came = poll(step.within, [&]() -> Result<bool> {
    const auto client = node(step.node);
    if (!client) return client.error();
    const auto body = (*client)->call("GET", "/v1/servers");
    if (!body) return body.error();
    for (const json& row : body->at("servers")) {
      if (row.value("group", "") + "/" + row.value("server", "") != step.server) continue;
      last = fmt::format("it is {}{}", row.value("state", ""),
                         row.value("why", "").empty() ? "" : ": " + row.value("why", ""));
      if (row.value("state", "") == step.state) return true;
    }
    return false;
  });
  if (!came) return came.error();
  if (!*came)
    running.result.failures.push_back(
        {number, step.at,
         fmt::format("{} was not {} within {}: {}", step.server, step.state, text_of(step.within), last),
         "jembatan server list " + where_text(step.node)});
  return {};
}

// The question is prepared once, unless each request has a name of its own.
Result<std::vector<Came>> Rehearsing::ask_all(const Step& step, const Running& running,
                                              dictionary::CataloguePtr& names) {
  auto first = question_of(step, options_of_request(step, 0, running.session));
  if (!first) return first.error();
  names = first->names_in_use();
  const bool differ =
      step.user.find("{n}") != std::string::npos || step.session.find("{n}") != std::string::npos;
  std::vector<Came> out(step.times);
  std::atomic<std::size_t> next{0};
  std::mutex mutex;
  std::optional<Error> problem;
  const auto ask = [&] {
    for (std::size_t i = next++; i < step.times; i = next++) {
      const auto question =
          differ && i > 0 ? first->renamed(options_of_request(step, i, running.session)) : *first;
      auto came = ask_once(step, question);
      const std::lock_guard lock(mutex);
      if (came) {
        out[i] = std::move(*came);
      } else {
        problem = came.error();
        next = step.times;
      }
    }
  };
  std::vector<std::thread> threads;
  for (std::size_t i = 1; i < std::min(step.together, step.times); ++i) threads.emplace_back(ask);
  ask();
  for (std::thread& thread : threads) thread.join();
  if (problem) return *problem;
  return out;
}

Status Rehearsing::run_requests(const Step& step, std::size_t number, Running& running) {
  ByServer before;
  const bool shares = !step.expect.shares.empty();
  if (shares) {
    auto counts = requests_of_servers(step.node);
    if (!counts) return counts.error();
    before = std::move(*counts);
  }
  dictionary::CataloguePtr names;
  const auto all = ask_all(step, running, names);
  if (!all) return all.error();
  std::vector<std::string> texts;
  const Came* odd = nullptr;
  std::size_t wrong = 0;
  for (const Came& came : *all) {
    running.result.answers.push_back(came.took);
    const auto differ = differences(step.expect, came, *names);
    if (!differ) return differ.error();
    if (differ->empty()) continue;
    if (wrong++ == 0) {
      odd = &came;
      texts = *differ;
    }
  }
  const double right = 100.0 * static_cast<double>(all->size() - wrong) / static_cast<double>(all->size());
  if (right >= step.expect.at_least) {
    texts.clear();
    odd = nullptr;
  } else if (all->size() > 1) {
    texts.insert(
        texts.begin(),
        fmt::format("{} of {} did not come out as expected; the first of them:", wrong, all->size()));
  }
  if (texts.empty() && !step.expect.server.empty()) {
    if (const Status s = check_server(step, all->back(), texts); !s) return s;
    if (!texts.empty()) odd = &all->back();
  }
  if (shares) {
    auto after = requests_of_servers(step.node);
    if (!after) return after.error();
    const char* purpose = step.kind == Step::Kind::accounting ? "accounting" : "access";
    for (std::string& text : share_differences(step.expect, between(before, std::move(*after))[purpose]))
      texts.push_back(std::move(text));
  }
  if (texts.empty()) {
    if (const Status s = check_accounting(step, running, texts); !s) return s;
  }
  if (!texts.empty())
    running.result.failures.push_back(
        {number, step.at, join(texts, "\n"), odd == nullptr ? "" : look_at(step, *odd)});
  return {};
}

// The device is played where the session's first hop asks it: the node of the accounting step before.
Status Rehearsing::run_device(const Step& step, std::size_t number, Running& running) {
  const auto began = std::find_if(running.of.steps.begin(), running.of.steps.end(),
                                  [](const Step& one) { return one.kind == Step::Kind::accounting; });
  if (began == running.of.steps.end() || &*began > &step)
    return fail(Errc::malformed, "no accounting step before has begun a session");
  const std::string session = began->session.empty() ? running.session : numbered(began->session, 0);
  const auto first = node(began->node);
  if (!first) return first.error();
  const auto last = node(step.node);
  if (!last) return last.error();
  auto exchange = ask_device({**first, options_of_node(began->node)}, **last, {session, step});
  if (!exchange) return exchange.error();
  running.result.answers.push_back(exchange->took);
  const auto& names = dictionary::standard_catalogue();
  auto texts = differences(step.expect, *exchange, *names);
  if (!texts) return texts.error();
  if (texts->empty()) {
    if (const Status s = check_accounting(*began, running, *texts); !s) return s;
  }
  if (!texts->empty())
    running.result.failures.push_back({number, step.at, join(*texts, "\n"),
                                       "jembatan journal search --since 1m " + where_text(began->node)});
  return {};
}

// The journal's heading of a request; it is written behind the answer. Nothing if it does not come.
Result<std::optional<Rehearsing::Heading>> Rehearsing::heading_of(const std::string& name, std::uint64_t leg,
                                                                  Duration within) {
  const auto client = node(name);
  if (!client) return client.error();
  std::optional<Heading> out;
  const auto known = poll(within, [&]() -> Result<bool> {
    const auto body =
        (*client)->call("GET", "/v1/journal", {{"leg", fmt::format("{:016x}", leg)}, {"most", "1"}});
    if (!body) return body.error();
    if (body->at("requests").empty()) return false;
    const json& found = body->at("requests").front();
    out = Heading{found.value("number", std::uint64_t{0}), found.value("server", "")};
    return true;
  });
  if (!known) return known.error();
  return out;
}

Status Rehearsing::check_server(const Step& step, const Came& came, std::vector<std::string>& out) {
  const auto heading = heading_of(step.node, came.leg, kJournalWithin);
  if (!heading) return heading.error();
  if (!*heading) {
    out.push_back(fmt::format("node {} has no journal of it, which would say who answered", step.node));
  } else if ((*heading)->server != step.expect.server) {
    out.push_back(fmt::format("expected an answer of {}, came one of {}", step.expect.server,
                              (*heading)->server.empty() ? "the node itself" : (*heading)->server));
  }
  return {};
}

// What accounting has of the step's sessions, at each node that is named.
Status Rehearsing::check_accounting(const Step& step, const Running& running, std::vector<std::string>& out) {
  const auto is_of_step = [&](const json& row) { return row.value("status", "") == step.record; };
  const auto is_open = [](const json& row) { return row.at("ended").is_null(); };
  for (const auto& [name, wanted] : step.expect.records) {
    const auto kept =
        count_at(name, step, running, {"/v1/accounting/records", "records", is_of_step, wanted});
    if (!kept) return kept.error();
    if (*kept != wanted)
      out.push_back(
          fmt::format("node {} keeps {} of it, expected {}", name, counted(*kept, "record"), wanted));
  }
  for (const auto& [name, wanted] : step.expect.online) {
    const auto open = count_at(name, step, running, {"/v1/sessions", "sessions", is_open, wanted});
    if (!open) return open.error();
    if (*open != wanted)
      out.push_back(
          fmt::format("node {} has {} of it open, expected {}", name, counted(*open, "session"), wanted));
  }
  return {};
}

// Records only become more, and sessions end: the first is waited for until there are enough, the second
// until it is so.
Result<std::uint64_t> Rehearsing::count_at(const std::string& name, const Step& step, const Running& running,
                                           const Counting& what) {
  const auto client = node(name);
  if (!client) return client.error();
  std::uint64_t count = 0;
  const auto reached = poll(step.expect.records_within, [&]() -> Result<bool> {
    count = 0;
    for (std::size_t i = 0; i < step.times; ++i) {
      const Arguments options = options_of_request(step, i, running.session);
      const auto body = (*client)->call("GET", what.path, {{"session_id", options.get("--session-id")}});
      if (!body) return body.error();
      for (const json& row : body->at(what.key))
        if (what.counts(row)) ++count;
      if (options.get("--session-id") == options_of_request(step, i + 1, running.session).get("--session-id"))
        break;
    }
    return what.key == "sessions" ? count == what.wanted : count >= what.wanted;
  });
  if (!reached) return reached.error();
  return count;
}

Result<ByServer> Rehearsing::requests_of_servers(const std::string& name) {
  const auto client = node(name);
  if (!client) return client.error();
  return requests_by_server(**client);
}

Result<Rehearsing::Found> Rehearsing::down_servers() {
  Found out;
  for (const std::string& name : lab::node_names()) {
    const auto client = node(name);
    if (!client) return client.error();
    const auto body = (*client)->call("GET", "/v1/servers");
    if (!body) return body.error();
    for (const json& row : body->at("servers"))
      if (row.value("state", "") == "down")
        ++out[name + " " + row.value("group", "") + "/" + row.value("server", "")];
  }
  return out;
}

// The next case starts with a chain that is well, as far as that is to be had.
void Rehearsing::mend(Running& running) {
  if (running.faulted.empty()) return;
  std::sort(running.faulted.begin(), running.faulted.end());
  running.faulted.erase(std::unique(running.faulted.begin(), running.faulted.end()), running.faulted.end());
  for (const std::string& name : running.faulted) {
    const Status mended = lab::set_fault(name, "none");
    if (!mended)
      running.result.failures.push_back({0, running.of.at, "not mended: " + mended.error().text, ""});
    nodes_.erase(name);
  }
  (void)poll(kRecoverWithin, [&]() -> Result<bool> {
    const auto down = down_servers();
    if (!down) return down.error();
    return std::none_of(down->begin(), down->end(), [&](const auto& one) {
      return std::any_of(running.faulted.begin(), running.faulted.end(),
                         [&](const std::string& name) { return one.first.ends_with("/" + name); });
    });
  });
}

std::string Rehearsing::look_at(const Step& step, const Came& came) {
  if (came.leg == 0) return {};
  const auto heading = heading_of(step.node, came.leg, 1s);
  if (!heading) return {};
  if (!*heading) return "jembatan journal search --since 1m " + where_text(step.node);
  return fmt::format("jembatan journal show {} --across {}", (*heading)->number, where_text(step.node));
}

}  // namespace jembatan::cli
