// What one request costs in the core: no socket, no thread.
//   build/release/bench/jembatan_core_bench
#include <benchmark/benchmark.h>
#include <fmt/format.h>

#include <algorithm>
#include <random>

#include "allocations.h"
#include "base/text_hash.h"
#include "decide/decide.h"
#include "dictionary/encode.h"
#include "engine/engine.h"
#include "journal/pack.h"
#include "plan/read.h"
#include "wire/authenticator.h"
#include "wire/hidden.h"

namespace {

using namespace jembatan;
using bench::allocations;

// How many pieces of memory one turn of a benchmark takes.
class Allocations {
 public:
  explicit Allocations(benchmark::State& state) : state_(state), before_(allocations()) {}
  ~Allocations() {
    state_.counters["allocations"] =
        benchmark::Counter(static_cast<double>(allocations() - before_), benchmark::Counter::kAvgIterations);
  }

 private:
  benchmark::State& state_;
  std::size_t before_;
};

class CountingRandom final : public Random {
 public:
  void fill(OctetSpan out) override {
    for (auto& octet : out) octet = static_cast<std::uint8_t>(++count_);
  }

 private:
  std::uint32_t count_ = 0;
};

const wire::SharedSecret& secret() {
  static const wire::SharedSecret the_secret(Secret("a secret of 32 characters, not 31"));
  return the_secret;
}

// Twelve attributes, as a wireless device sends them.
Octets request(std::uint32_t number, const char* user = "tamu@reef.example") {
  wire::Authenticator authenticator{};
  store32(authenticator.data(), number);
  wire::PacketBuilder packet(wire::Code::access_request, static_cast<std::uint8_t>(number), authenticator);
  (void)packet.add_message_authenticator();
  const auto password = wire::hide_password(view_of(std::string_view("ombak-3")), authenticator, secret());
  (void)packet.add(wire::AttributeType::user_password, OctetView(*password));
  for (const auto& [name, value] : {std::pair{"User-Name", user},
                                    {"NAS-Identifier", "kerapu-deck-2"},
                                    {"NAS-IP-Address", "192.0.2.33"},
                                    {"NAS-Port", "2"},
                                    {"NAS-Port-Type", "Wireless-802-11"},
                                    {"Service-Type", "Framed"},
                                    {"Framed-MTU", "1400"},
                                    {"Called-Station-Id", "02-00-5E-00-53-FF:kerapu"},
                                    {"Calling-Station-Id", "02-00-5E-00-53-01"},
                                    {"Connect-Info", "802.11ac"}}) {
    (void)packet.add_encoded(*dictionary::encode(dictionary::standard(), name, value));
  }
  const OctetSpan octets = packet.finish();
  wire::sign_request(octets, secret());
  return {octets.begin(), octets.end()};
}

plan::PlanPtr demo_plan() {
  const std::vector<plan::SourceFile> files{{"plan.toml", R"(
[[client]]
name = "kerapu-deck-2"
address = "192.0.2.32/28"
secret = "a secret of 32 characters, not 31"
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
reply = { vlan = 40, Filter-Id = "passenger", Session-Timeout = "2h" }
[[realm]]
name = "lagoon.example"
handle = "group:lagoon"
[[group]]
name = "lagoon"
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "a secret of 32 characters, not 31"
)"}};
  const auto none = [](const std::string&) -> Result<std::string> { return fail(Errc::not_found, ""); };
  document::Problems problems;
  return plan::read(files, {none, none}, problems);
}

void BM_ParseAndVerify(benchmark::State& state) {
  const Octets octets = request(1);
  for (auto _ : state) {
    const auto packet = wire::PacketView::parse(octets);
    benchmark::DoNotOptimize(wire::check_message_authenticator(*packet, packet->authenticator(), secret()));
  }
}
BENCHMARK(BM_ParseAndVerify);

// One engine with the demo's plan, and requests that are no repeats of each other.
class OneEngine {
 public:
  explicit OneEngine(const char* user) : engine_(settings(), random_, counters_) {
    engine_.use(board_.go_live(demo_plan(), 1), {{}, actions});
    for (std::uint32_t i = 0; i < 4096; ++i) requests_.push_back(request(i, user));
  }
  void receive() {
    // Another port each round, so that no request is a repeat.
    const Endpoint from{IpAddress::from_v4(reinterpret_cast<const std::uint8_t*>("\xC0\x00\x02\x21")),
                        static_cast<std::uint16_t>(number_ / 256)};
    engine_.handle({0, from, {}, requests_[number_ % requests_.size()]}, {now_, actions});
    if (++number_ % 64 == 0) clear();
  }
  // The server that was asked lets everybody in.
  void answer() {
    const auto& ask = actions.asks.back();
    const auto asked = *wire::PacketView::parse(actions.view(ask.packet));
    wire::PacketBuilder reply(wire::Code::access_accept, asked.identifier(), asked.authenticator());
    (void)reply.add_message_authenticator();
    (void)reply.add(wire::AttributeType::reply_message, std::string_view("Welcome aboard."));
    const OctetSpan octets = reply.finish();
    wire::sign_response(octets, asked.authenticator(), secret());
    engine_.on_reply(ask.lane, ask.to, octets, {now_, actions});
  }
  void pack() {
    engine::Event& event = actions.events.back();
    event.number = number_ + 1;
    packing_.add(event);
    if (packing_.full()) (void)packing_.take();
  }
  bool accepted() const { return counters_.count(engine::Outcome::accepted) > 0; }

  engine::Actions actions;

 private:
  static engine::Settings settings() {
    engine::Settings out;
    out.listeners = {{forward::Purpose::access, {}}};
    return out;
  }
  void clear() {
    if (actions.events.size() > 32) actions.clear();
  }
  CountingRandom random_;
  engine::Counters counters_;
  engine::Engine engine_;
  forward::HealthBoard board_;
  std::vector<Octets> requests_;
  const Now now_{std::chrono::steady_clock::now(), std::chrono::system_clock::now()};
  std::uint32_t number_ = 0;
  journal::Packing packing_;
};

void BM_ParseVerifyAnswer(benchmark::State& state) {
  OneEngine one("tamu@reef.example");
  const Allocations count(state);
  for (auto _ : state) one.receive();
  if (!one.accepted()) state.SkipWithError("nothing was accepted");
}
BENCHMARK(BM_ParseVerifyAnswer);

void BM_AnswerAndPackForTheJournal(benchmark::State& state) {
  OneEngine one("tamu@reef.example");
  const Allocations count(state);
  for (auto _ : state) {
    one.receive();
    if (!one.actions.events.empty()) one.pack();
  }
}
BENCHMARK(BM_AnswerAndPackForTheJournal);

// With what the server behind it does to answer.
void BM_Forward(benchmark::State& state) {
  OneEngine one("rani@lagoon.example");
  const Allocations count(state);
  for (auto _ : state) {
    one.receive();
    if (!one.actions.asks.empty()) one.answer();
  }
  if (!one.accepted()) state.SkipWithError("nothing was accepted");
}
BENCHMARK(BM_Forward);

// So many clients with addresses of their own, some inside prefixes, asked for in an order that no cache
// knows.
void BM_ClientAtAddress(benchmark::State& state) {
  const auto count = static_cast<std::uint32_t>(state.range(0));
  plan::ClientTable table;
  std::mt19937 random(7);
  std::vector<IpAddress> asked;
  for (std::uint32_t i = 0; i < count; ++i) {
    std::uint8_t octets[4];
    store32(octets, 0x0A000000U | (static_cast<std::uint32_t>(random()) & 0xFFFFFFU));
    Prefix prefix{IpAddress::from_v4(octets), 32};
    asked.push_back(prefix.address);
    table.insert(prefix, i);
  }
  std::shuffle(asked.begin(), asked.end(), random);
  asked.resize(static_cast<std::size_t>(state.range(1)));
  std::size_t number = 0;
  for (auto _ : state) benchmark::DoNotOptimize(table.find(asked[++number % asked.size()]));
  state.counters["octets/client"] = static_cast<double>(table.memory()) / count;
}
BENCHMARK(BM_ClientAtAddress)->Args({100, 100})->Args({100000, 100})->Args({100000, 100000});

// A realm among so many; each tenth entry is a pattern, and each hundredth lookup meets one.
void BM_RealmNamed(benchmark::State& state) {
  const auto count = static_cast<std::size_t>(state.range(0));
  plan::RealmTable table;
  for (std::size_t i = 0; i < count; ++i) {
    const std::string pattern = i % 10 == 0 ? "*." : "";
    table.insert(pattern + "pier-" + std::to_string(i) + ".islands.example", i);
  }
  std::vector<std::string> asked;  // the same hundred, so that caches do not tell the sizes apart
  for (std::size_t i = 0; i < 100; ++i)
    asked.push_back((i == 0 ? "deck.pier-" : "pier-") + std::to_string(i) + ".islands.example");
  std::size_t number = 0;
  for (auto _ : state) benchmark::DoNotOptimize(table.find(asked[++number % asked.size()]));
}
BENCHMARK(BM_RealmNamed)->Arg(100)->Arg(50000);

// One request through so many access rules, none but the last of which matches.
void decide_by(benchmark::State& state, std::span<const std::string_view> conditions) {
  std::string text = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "a secret of 32 characters, not 31"
labels = { place = "reef/kerapu", kind = "wireless" }
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
groups = ["passengers"]
)";
  const auto count = static_cast<std::size_t>(state.range(0));
  for (std::size_t i = 0; i + 1 < count; ++i) {
    std::string when(conditions[i % conditions.size()]);
    when.replace(when.find("{}"), 2, std::to_string(100 + i));
    text += "[[access]]\nname = \"rule " + std::to_string(i) + "\"\npermit = true\nwhen = '" + when + "'\n";
  }
  text += "[[access]]\nname = \"last\"\npermit = true\n";
  const std::vector<plan::SourceFile> files{{"bench.toml", text}};
  document::Problems problems;
  const auto plan = plan::read(files, {}, problems);
  if (!plan) return state.SkipWithError(problems.text().c_str());
  const Octets octets = request(1);
  const auto packet = *wire::PacketView::parse(octets);
  const decide::Request asked{*plan, packet, plan->clients[0], false, std::chrono::system_clock::now()};
  decide::Trail steps;
  decide::Trail* const trail = state.range(1) == 0 ? nullptr : &steps;
  decide::Subject subject = decide::subject_of(plan->users.front());
  subject.proven = "pap";
  for (auto _ : state) {
    steps.clear();
    const decide::Way way = decide::find_way(asked, trail);
    benchmark::DoNotOptimize(decide::admit(asked, way, subject, trail));
  }
  state.counters["per rule"] =
      benchmark::Counter(static_cast<double>(count),
                         benchmark::Counter::kIsIterationInvariantRate | benchmark::Counter::kInvert);
}
// Conditions over 1 to 4 attributes.
void BM_Decide(benchmark::State& state) {
  static constexpr std::array<std::string_view, 4> kConditions{
      "NAS-Port-Type == {}", "member of \"g{}\" and NAS-Port-Type == Virtual",
      "User-Name present and NAS-Identifier == \"pier-{}\" and NAS-Port-Type == Virtual",
      "User-Name present and client.label.place under \"reef\" and realm == \"reef.example\" and NAS-Port == "
      "{}"};
  decide_by(state, kConditions);
}
BENCHMARK(BM_Decide)->ArgNames({"rules", "trail"})->ArgsProduct({{20, 200, 1000}, {0, 1}});

// Rules that differ in client, label or realm.
void BM_DecideByPlace(benchmark::State& state) {
  static constexpr std::array<std::string_view, 3> kConditions{
      "client.label.place == \"pier-{}\"", "realm == \"r{}.example\" and NAS-Port-Type == Virtual",
      "client == \"deck-{}\" and User-Name present"};
  decide_by(state, kConditions);
}
BENCHMARK(BM_DecideByPlace)->ArgNames({"rules", "trail"})->ArgsProduct({{20, 200, 1000}, {0, 1}});

void BM_LookUpByName(benchmark::State& state) {
  for (auto _ : state) benchmark::DoNotOptimize(dictionary::standard().named("Tunnel-Private-Group-ID"));
}
BENCHMARK(BM_LookUpByName);

void BM_LookUpByNumber(benchmark::State& state) {
  std::uint8_t number = 0;
  for (auto _ : state) benchmark::DoNotOptimize(dictionary::standard().numbered(++number));
}
BENCHMARK(BM_LookUpByNumber);

void BM_LookUpVendorsNumber(benchmark::State& state) {
  const dictionary::Path path{26, 311, 16};
  for (auto _ : state) benchmark::DoNotOptimize(dictionary::standard().at(path));
}
BENCHMARK(BM_LookUpVendorsNumber);

// Choosing a server and noting that it answered, as each request to a group does.
void BM_ChooseServer(benchmark::State& state) {
  std::string toml = "[[group]]\nname = \"g\"\n";
  if (state.range(1) != 0) toml += "sticky = \"user\"\n";
  for (int i = 0; i < state.range(0); ++i)
    toml += fmt::format(
        "[[group.server]]\nname = \"s{}\"\naddress = \"198.51.{}.{}\"\nsecret = \"x\"\nweight = {}\n", i,
        100 + i / 200, i % 200 + 1, 1 + i % 4);
  forward::HealthBoard board;
  document::Problems problems;
  const std::vector<plan::SourceFile> files{{"bench.toml", toml}};
  const auto live = board.go_live(plan::read(files, {}, problems), 1);
  const Now now{TimePoint(std::chrono::hours(1000)), WallTime(std::chrono::seconds(1'790'000'000))};
  forward::Asker asker;
  for (std::uint64_t slot = 1; state.range(1) != 0 && slot < 65536; ++slot) {  // as after the first minutes
    asker.sticks = slot << 48U;
    (void)forward::choose(live->candidates(0, forward::Purpose::access), asker, {}, now.steady);
  }
  for (auto _ : state) {
    if (state.range(1) != 0) asker.sticks = mixed_number(asker.sticks + 1);
    const auto chosen = forward::choose(live->candidates(0, forward::Purpose::access), asker, {}, now.steady);
    forward::ServerHealth& health = *live->health_of(0, forward::Purpose::access)[*chosen];
    health.count_asked();
    health.begins();
    health.answered(now, std::chrono::microseconds(900));
    health.ends();
  }
}
BENCHMARK(BM_ChooseServer)->ArgNames({"servers", "sticky"})->ArgsProduct({{3, 200}, {0, 1}});

void BM_BuildAndSignAccept(benchmark::State& state) {
  Octets reply;
  for (const plan::Assignment& assignment : demo_plan()->users[0].reply) append(reply, assignment.fixed);
  const wire::Authenticator authenticator{1, 2, 3};
  for (auto _ : state) {
    wire::PacketBuilder packet(wire::Code::access_accept, 1, authenticator);
    (void)packet.add_message_authenticator();
    (void)packet.add_encoded(reply);
    wire::sign_response(packet.finish(), authenticator, secret());
    benchmark::DoNotOptimize(packet.finish().data());
  }
}
BENCHMARK(BM_BuildAndSignAccept);

}  // namespace

BENCHMARK_MAIN();
