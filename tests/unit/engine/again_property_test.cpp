// For plans and requests made up by chance: whatever the engine sent, the journal's course sends; whatever
// `explain` takes for granted, if it is so, it tells the same.
#include <gmock/gmock.h>

#include <fmt/format.h>

#include "decide/explain.h"
#include "decide/reasons.h"
#include "dictionary/describe.h"
#include "journal/again.h"
#include "support/journal.h"
#include "unit/engine/one_node.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using wire::Code;
using wire::PacketView;

constexpr const char* kWorld = R"(
[[client]]
name = "gate"
address = "192.0.2.0/24"
secret = "laut"
labels = { kind = "gate", place = "reef/1" }
message_authenticator = "if-present"
[[user]]
name = "sari@reef.example"
password = { clear = "laut-biru-7" }
groups = ["crew"]
reply = { vlan = 30, "Tunnel-Password[1]" = "terowong" }
[[user]]
name = "tamu@reef.example"
password = { hash = "$6$jembatan$l9sAIiCcOmx6wr0FUMEmaety7rOcqVTnJFU1HU23aRnlWkp/Z6ajAvSu5OAgdt4j5OCr1/.HShCTyZvJ4oJYv1" }
groups = ["passengers"]
[[user]]
name = "lama@reef.example"
password = { clear = "x" }
enabled = false
[[realm]]
name = "reef.example"
aliases = ["reef"]
handle = "here"
[[realm]]
name = "lagoon.example"
handle = "group:lagoon"
strip = true
accounting = ["here", "group:lagoon"]
[[realm]]
name = "quiet.example"
handle = "ignore"
[realm_default]
unknown = "group:strict"
[[group]]
name = "lagoon"
answer_within = "1s"
attempts = 2
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "danau"
[[group.server]]
name = "lagoon-2"
address = "198.51.100.3"
secret = "danau"
priority = 2
[[group]]
name = "strict"
answer_within = "1s"
attempts = 1
when_silent = "refuse"
[[group.server]]
name = "island-1"
address = "198.51.100.2"
secret = "danau"
message_authenticator = "if-present"
)";

class Chance {
 public:
  explicit Chance(unsigned seed) : engine_(seed) {}
  std::size_t below(std::size_t bound) { return engine_() % bound; }
  bool once_in(std::size_t times) { return below(times) == 0; }
  template <std::size_t N>
  std::string_view one_of(const std::string_view (&all)[N]) {
    return all[below(N)];
  }

 private:
  std::mt19937 engine_;
};

std::string condition(Chance& chance) {
  static constexpr std::string_view kConditions[] = {
      R"(member of "crew")",
      R"(realm == "reef.example")",
      R"(User-Name starts with "sari")",
      R"(method == pap)",
      R"(method in (chap, ms-chap-v2))",
      R"(code == Access-Accept)",
      R"(server == "lagoon-2")",
      R"(group == "lagoon")",
      R"(Filter-Id present)",
      R"(client.label.place under "reef")",
      R"(time within "Mon-Fri 06:00-18:00")",
      R"(route == "by chance")",
      R"(count(Class) > 0)",
  };
  const std::string one(chance.one_of(kConditions));
  if (chance.once_in(3)) return "not (" + one + ")";
  return chance.once_in(3) ? one + " or " + std::string(chance.one_of(kConditions)) : one;
}

std::string rules(Chance& chance) {
  static constexpr std::string_view kPoints[] = {"received", "forwarding", "answered", "replying"};
  static constexpr std::string_view kDoes[] = {
      R"(set = { Filter-Id = "{user}-{client}" })",
      R"(add = { Class = "made {code} {server}" })",
      R"(set = { "Tunnel-Password[2]" = "terowong-{user}" })",
      R"(set = { User-Name = "sari@reef.example" })",
      R"(remove = ["Filter-Id", "MS-CHAP2-Success"])",
      R"(copy = { User-Name = "Reply-Message" })",
      R"(copy = { CHAP-Password = "Class" })",
      "rewrite = { User-Password = '^(?P<head>..)(?P<rest>.*)$' }\nset = { User-Password = \"{match.rest}\" "
      "}",
      R"(rename = { Calling-Station-Id = "Called-Station-Id" })",
  };
  static constexpr std::string_view kHandles[] = {"here", "group:lagoon", "group:strict", "refuse", "ignore"};
  std::string out;
  for (std::size_t i = chance.below(4); i > 0; --i) {
    out += fmt::format("[[edit]]\nname = \"edit {}\"\nat = \"{}\"\n{}\n", i, chance.one_of(kPoints),
                       chance.one_of(kDoes));
    if (chance.once_in(2)) out += fmt::format("when = '{}'\n", condition(chance));
  }
  if (chance.once_in(3))
    out += fmt::format("[[route]]\nname = \"by chance\"\nwhen = '{}'\nhandle = \"{}\"\n",
                       R"(User-Name contains "a")", chance.one_of(kHandles));
  for (std::size_t i = chance.below(4); i > 0; --i) {
    const bool permit = !chance.once_in(3);
    out += fmt::format("[[access]]\nname = \"rule {}\"\npermit = {}\n{}", i, permit,
                       permit ? "reply = { Filter-Id = \"rule {user}\", Idle-Timeout = \"10m\" }\n"
                              : "message = \"Not here.\"\n");
    if (chance.once_in(4)) out += "proof = \"client\"\n";
    if (chance.once_in(4) && permit) out += "methods = [\"pap\"]\n";
    // Access rules know neither server nor code of a reply.
    if (chance.once_in(2)) out += "when = 'member of \"crew\" or Filter-Id present'\n";
  }
  return out;
}

Octets request(Chance& chance, std::uint8_t identifier) {
  static constexpr std::string_view kNames[] = {"sari@reef.example",
                                                "SARI@reef",
                                                "tamu@reef.example",
                                                "lama@reef.example",
                                                "nobody@reef.example",
                                                "rani@lagoon.example",
                                                "x@quiet.example",
                                                "y@far.example",
                                                "sari",
                                                "sari@"};
  static constexpr std::string_view kPasswords[] = {"laut-biru-7", "x", "", "ombak"};
  if (chance.once_in(6)) {
    return support::accounting_request("Start", "s" + std::to_string(chance.below(3)), identifier)
        .user(chance.one_of(kNames))
        .with("Class", "0x01")
        .signed_with(support::secret("laut"));
  }
  auto out = support::access_request(identifier);
  out.authenticator(static_cast<std::uint8_t>(chance.below(256)));
  if (!chance.once_in(12)) out.user(chance.one_of(kNames));
  switch (chance.below(6)) {
    case 0:
      out.with("CHAP-Password", "0x0102030405060708090a0b0c0d0e0f1011");
      break;
    case 1:
      break;
    case 2:
      out.with("EAP-Message", "0x020100060141");
      break;
    case 3:
      out.with("MS-CHAP-Challenge", "0x" + std::string(32, '1'))
          .with("MS-CHAP2-Response", "0x" + std::string(100, '2'));
      break;
    default:
      out.password(chance.one_of(kPasswords));
  }
  if (chance.once_in(3)) out.with("Filter-Id", "as asked");
  if (chance.once_in(3)) out.with("Calling-Station-Id", "02-00-5E-00-53-01");
  if (chance.once_in(4)) out.with("Proxy-State", "0x0a0b");
  return chance.once_in(9) ? out.not_signed(support::secret("laut"))
                           : out.signed_with(support::secret("laut"));
}

// What a person would read of a reply, without what belongs to the hop.
std::vector<std::string> shown(OctetView attributes) {
  std::vector<std::string> out;
  for (const auto& line : dictionary::describe(dictionary::standard(), attributes)) {
    if (line.name != "Message-Authenticator" && line.name != "Proxy-State")
      out.push_back(line.name + " " + line.value);
  }
  return out;
}

class ByChance : public Handle {
 protected:
  // What a server says, or a store, or nothing.
  void go_on(Chance& chance) {
    static constexpr Code kCodes[] = {Code::access_accept, Code::access_reject, Code::access_challenge};
    for (int steps = 0; steps < 8 && event_ == nullptr; ++steps) {
      if (!out.jobs.empty()) {
        const Job job = std::move(out.jobs.front());
        out.clear();
        const auto* compare = std::get_if<Job::Compare>(&job.work);
        if (compare == nullptr) {
          engine.on_done(job.ticket, accounting::Kept{1, chance.once_in(2)}, {clock.advance(2ms), out});
        } else {
          engine.on_done(job.ticket, Compared{!chance.once_in(3)}, {clock.advance(2ms), out});
        }
      } else if (!out.asks.empty() && chance.once_in(2)) {
        keep_asked();
        Octets attributes = *dictionary::encode(dictionary::standard(), "Filter-Id", "\"theirs\"");
        if (chance.once_in(2))
          append(attributes, *dictionary::encode(dictionary::standard(), "Class", "0x6c61676f6f6e"));
        const std::string server = out.asks[0].to.text();
        from_server(answer_of(kCodes[chance.below(3)], "danau", attributes), server.c_str());
      } else {
        silence(2);
      }
      take_event();
    }
  }
  void take_event() {
    for (const Event& one : out.events) {
      if (one.outcome < Outcome::reply_used && one.story != nullptr) event_ = &one;
    }
  }
  void expect_told_as_sent() {
    const Story& story = *event_->story;
    decide::Telling telling(decide::Telling::Of::done);
    telling.client(*story.client, event_->source.address);
    journal::Again again(story, &telling);
    const decide::Next next = again.run();
    expect_kept(telling.lines);
    EXPECT_EQ(next.what == decide::Next::What::reply, !story.reply.empty());
    if (story.reply.empty()) return;
    const PacketView reply = *PacketView::parse(story.reply);
    EXPECT_EQ(next.code, reply.code());
    EXPECT_EQ(shown(next.attributes), shown(reply.attribute_octets()));
    EXPECT_EQ(next.ending.outcome, event_->outcome);
    EXPECT_EQ(decide::with_detail(next.ending.because, next.ending.detail), reason_text(*event_));
    if (event_->outcome == Outcome::accepted && event_->server.empty() &&
        journal::can_be_told_again(*story.live->plan))
      expect_explained(story, telling.lines);
  }
  // What is kept, without secrets, tells the same as the story does at once.
  void expect_kept(const std::vector<std::string>& told) {
    auto kept = support::kept_entry(*event_).trail;
    kept.erase(kept.begin() + static_cast<std::ptrdiff_t>(told.size()), kept.end());  // how it ended
    EXPECT_EQ(kept, told);
  }
  // Of an accepted sign-in, explain takes for granted what happened; but it opens nothing that is hidden.
  static void expect_explained(const Story& story, std::vector<std::string> told) {
    const PacketView packet = *PacketView::parse(story.request);
    auto explained =
        decide::explain({*story.live->plan, packet, *story.client, false, story.arrived}, decide::Assumed{});
    for (std::string& line : explained.lines)
      if (line == "password: taken for right") line = "password: right";
    std::erase_if(told, [](const std::string& line) { return line.ends_with("the password was compared"); });
    explained.lines.erase(explained.lines.begin());  // whose it is, which the journal says with the address
    told.erase(told.begin());
    EXPECT_EQ(told, explained.lines);
  }

  const Event* event_ = nullptr;
};

TEST_F(ByChance, TheJournalTellsWhatWasSentAndExplainTheSame) {
  std::size_t replied = 0;
  for (unsigned seed = 0; seed < 10000 && !HasFailure(); ++seed) {
    SCOPED_TRACE(seed);
    Chance chance(seed);
    if (seed % 20 == 0) {
      const std::string text = kWorld + rules(chance);
      SCOPED_TRACE(text);
      const auto plan = support::plan_of(text);
      ASSERT_TRUE(plan);
      engine.use(board.go_live(plan, seed), {clock.now(), out});
    }
    event_ = nullptr;
    const Octets asked_with = request(chance, static_cast<std::uint8_t>(seed));
    const bool accounting = asked_with[0] == static_cast<std::uint8_t>(Code::accounting_request);
    clock.advance(11s);
    receive(asked_with, "192.0.2.1:4000", accounting ? 1 : 0);
    take_event();
    go_on(chance);
    if (event_ == nullptr) continue;
    expect_told_as_sent();
    if (!event_->story->reply.empty()) ++replied;
  }
  EXPECT_GT(replied, 5000U);
  EXPECT_EQ(engine.in_flight(), 0U);
  expect_counters_to_add_up();
}

}  // namespace
}  // namespace jembatan::engine
