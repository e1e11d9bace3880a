// Second factors: codes behind the password and by challenge, each once.
#include <gmock/gmock.h>

#include "journal/preview.h"
#include "support/journal.h"
#include "unit/engine/one_node.h"
#include "wire/packet.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using support::access_request;
using support::secret;
using testing::Contains;
using testing::HasSubstr;
using testing::Not;

// The key is that of RFC 4226, appendix D.
constexpr const char* kEngineRoom = R"plan(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
labels = { kind = "console" }
[[client]]
name = "lock"
address = "192.0.2.66"
secret = "laut"
labels = { kind = "one-field" }
[[user]]
name = "indah@reef.example"
password = { clear = "poros-8" }
groups = ["engineers"]
[[user]]
name = "sari@reef.example"
password = { clear = "karang-21" }
groups = ["engineers"]
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
[[realm]]
name = "reef.example"
handle = "here"
[[factor]]
name = "code"
kind = "code"
behind_when = 'client.label.kind == "one-field"'
remember = "8h"
tries = 2
lock_after = 4
[[enrolment]]
name = "indah's card"
user = "Indah@Reef.example"
factor = "code"
secret = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"
counts = "uses"
[[access]]
name = "engineers"
when = 'member of "engineers"'
permit = true
factors = ["code"]
factors_unless = 'Called-Station-Id == "workshop"'
  [access.reply]
  Filter-Id = "engine-room"
[[access]]
name = "vouched for"
proof = "client"
permit = true
factors = ["code"]
[[access]]
name = "all"
permit = true
)plan";

constexpr const char* kCodes[] = {"755224", "287082", "359152", "969429", "338314"};

class Factors : public Handle {
 protected:
  Factors() { engine.use(board.go_live(support::plan_of(kEngineRoom), 2), {clock.now(), out}); }

  // Judges what is to be judged, as the node does, and keeps what happened before it.
  void judge() {
    if (out.jobs.empty()) return;
    const auto job = std::get<Job::Judge>(out.jobs.at(0).work);
    const Ticket ticket = out.jobs.at(0).ticket;
    const auto tokens = job.plan->tokens_of(job.user, job.factor);
    const auto verdict = identity::judge(page, tokens, text_of(job.typed.reveal()),
                                         job.plan->factors[job.factor].limits, job.now);
    out.clear();
    engine.on_done(ticket, Judged{verdict}, {clock.now(), out});
  }
  void ask(support::RequestBuilder request, const char* from = "192.0.2.1:4000") {
    receive(request.signed_with(secret("laut")), from);
    if (out.events.empty()) judge();
  }
  support::RequestBuilder by(const char* user, const char* password) {
    return access_request(next_++).user(user).password(password);
  }
  support::RequestBuilder indah(const char* password = "poros-8") {
    return by("indah@reef.example", password);
  }
  std::string state() const {
    const auto found = wire::PacketView::parse(reply())->find(wire::AttributeType::state);
    return found ? std::string(text_of(found->value)) : "";
  }
  support::RequestBuilder answer(const char* code) {
    Octets attribute;
    wire::append_attribute(attribute, wire::AttributeType::state, view_of(state()));
    return indah(code).plus(attribute);
  }
  std::string reason() const { return reason_text(event()); }
  identity::CodePage page;
  std::uint8_t next_ = 1;
};

TEST_F(Factors, ACodeIsAskedForByAChallengeAndLetsIn) {
  ask(indah());
  EXPECT_EQ(reply_code(), wire::Code::access_challenge);
  EXPECT_EQ(support::value_in(reply(), "Reply-Message"), "\"One-time code:\"");
  EXPECT_EQ(support::value_in(reply(), "Prompt"), "No-Echo");
  EXPECT_EQ(support::value_in(reply(), "Session-Timeout"), "60");
  EXPECT_EQ(support::value_in(reply(), "Filter-Id"), "(none)");
  EXPECT_EQ(reason(), "a one-time code is asked for ('code')");
  ask(answer(kCodes[0]));
  EXPECT_EQ(reply_code(), wire::Code::access_accept);
  EXPECT_EQ(support::value_in(reply(), "Filter-Id"), "\"engine-room\"");
}

TEST_F(Factors, TheTrailTellsBothRounds) {
  ask(indah());
  const auto first = support::kept_entry(event()).trail;
  EXPECT_THAT(first, Contains("access rule 1 'engineers': yes, member of \"engineers\" (the user is in "
                              "'engineers')"));
  EXPECT_THAT(first, Contains("challenged at once: a one-time code is asked for ('code')"));
  ask(answer(kCodes[1]));
  const auto second = support::kept_entry(event()).trail;
  EXPECT_THAT(second,
              Contains("goes on with the conversation of 'indah@reef.example', who has proved pap; asked "
                       "for: 'code'"));
  EXPECT_THAT(second, Contains("second factor 'code': right, of 'indah's card', 1 step early"));
}

TEST_F(Factors, BothRoundsAreToldAgainAndDecidedAgainByAnotherPlan) {
  std::vector<Event> events;
  const auto keep = [&] {
    events.push_back(event());
    events.back().number = events.size();
  };
  ask(indah());
  keep();
  ask(answer("000000"));
  keep();
  ask(answer(kCodes[0]));
  keep();
  ask(indah("poros-8287082"), "192.0.2.66:4000");
  keep();
  ask(by("sari@reef.example", "karang-21"));
  keep();
  support::MemoryBlocks blocks;
  journal::Packing packing;
  for (const Event& one : events) {
    support::pack(packing, one);
    EXPECT_THAT(support::kept_entry(one).trail, Not(Contains(HasSubstr("this does not lead to"))));
  }
  ASSERT_TRUE(blocks.append(std::vector{packing.take()}));
  const plan::PlanPtr then = events.front().story->live->plan;
  const auto by = [&](const plan::PlanPtr& plan) {
    const auto plans = [&](std::uint64_t) { return Result<plan::PlanPtr>(then); };
    return *journal::preview(blocks, {}, plans, plan, [] { return true; });
  };
  const auto same = by(support::plan_of(kEngineRoom));
  EXPECT_EQ(same.looked_at, 5U);
  EXPECT_EQ(same.not_told, 0U);
  EXPECT_EQ(same.differ, 0U);
  std::string without = kEngineRoom;
  const std::size_t asks = without.find("factors = [");
  without.erase(asks, without.find("[access.reply]") - asks);
  EXPECT_EQ(by(support::plan_of(without)).differ, 3U) << "the challenges, and who has no token";
}

TEST_F(Factors, AWrongPasswordIsNotAskedForACode) {
  ask(indah("poros-9"));
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
  EXPECT_EQ(reason(), "wrong password");
}

TEST_F(Factors, AWrongCodeMayBeTriedAgainAsOftenAsThePlanSays) {
  ask(indah());
  ask(answer("000000"));
  EXPECT_EQ(reply_code(), wire::Code::access_challenge);
  EXPECT_EQ(reason(), "another one-time code is asked for ('code': wrong)");
  ask(answer("000001"));
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
  EXPECT_EQ(reason(), "the one-time code does not serve ('code': wrong)");
}

TEST_F(Factors, ACodeServesOnceInWhicheverWay) {
  ask(indah());
  ask(answer(kCodes[0]));
  ask(indah());
  ask(answer(kCodes[0]));
  EXPECT_EQ(reason(),
            "another one-time code is asked for ('code': of 'indah's card', and has served before)");
  ask(by("indah@reef.example", "poros-8755224"), "192.0.2.66:4000");
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
  EXPECT_EQ(reason(), "the one-time code does not serve ('code': of 'indah's card', and has served before)");
}

TEST_F(Factors, TheCodeMayStandBehindThePassword) {
  ask(indah("poros-8755224"), "192.0.2.66:4000");
  EXPECT_EQ(reply_code(), wire::Code::access_accept);
  ask(indah("poros-8000000"), "192.0.2.66:4000");
  EXPECT_EQ(reason(), "the one-time code does not serve ('code': wrong)");
  ask(indah("poros-9287082"), "192.0.2.66:4000");
  EXPECT_EQ(reason(), "wrong password");
  ask(indah(), "192.0.2.66:4000");
  EXPECT_EQ(reason(), "no one-time code stands beside the password ('code')");
  EXPECT_EQ(page.wrong, 1U) << "wrong passwords and missing codes are no wrong codes";
  ask(indah("287082"), "192.0.2.66:4000");
  EXPECT_EQ(reply_code(), wire::Code::access_reject) << "a code alone";
}

TEST_F(Factors, OnOtherDevicesWhatLooksLikeACodeIsPartOfThePassword) {
  ask(indah("poros-8755224"));
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
  EXPECT_THAT(reason(), HasSubstr("wrong password"));
}

TEST_F(Factors, WhoHasNoTokenIsRefused) {
  ask(by("sari@reef.example", "karang-21"));
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
  EXPECT_EQ(reason(), "the user has no token for the second factor ('code')");
  ask(by("sari@reef.example", "karang-21000000"), "192.0.2.66:4000");
  EXPECT_THAT(reason(), HasSubstr("wrong password")) << "nothing is split for whom there is no code";
}

TEST_F(Factors, WhereTheRuleMakesAnExceptionNoneIsAskedFor) {
  ask(indah().with("Called-Station-Id", "workshop"));
  EXPECT_EQ(reply_code(), wire::Code::access_accept);
  EXPECT_THAT(support::kept_entry(event()).trail,
              Contains("second factors: not asked for, 'factors_unless' holds"));
  ask(by("tamu@reef.example", "ombak-3"));
  EXPECT_EQ(reply_code(), wire::Code::access_accept) << "a rule without factors";
}

TEST_F(Factors, AStationIsRememberedForItsUserAndToken) {
  ask(indah().with("Calling-Station-Id", "02-00-5E-10-00-01"));
  ask(answer(kCodes[0]).with("Calling-Station-Id", "02-00-5E-10-00-01"));
  EXPECT_EQ(reply_code(), wire::Code::access_accept);
  ask(indah().with("Calling-Station-Id", "02-00-5e-10-00-01"));
  EXPECT_EQ(reply_code(), wire::Code::access_accept);
  ask(indah("poros-9").with("Calling-Station-Id", "02-00-5E-10-00-01"));
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
  ask(indah().with("Calling-Station-Id", "02-00-5E-10-00-02"));
  EXPECT_EQ(reply_code(), wire::Code::access_challenge);
  ask(indah());
  EXPECT_EQ(reply_code(), wire::Code::access_challenge) << "a station that is not told is none";
  clock.advance(8h);
  ask(indah().with("Calling-Station-Id", "02-00-5E-10-00-01"));
  EXPECT_EQ(reply_code(), wire::Code::access_challenge);
}

TEST_F(Factors, AStateServesOneUserOneClientAndOnce) {
  ask(indah());
  const std::string first = state();
  Octets attribute;
  wire::append_attribute(attribute, wire::AttributeType::state, view_of(first));
  ask(indah(kCodes[0]).plus(attribute), "192.0.2.66:4000");
  EXPECT_EQ(reason(), "no conversation has this State: it has ended, or has expired") << "another client";
  ask(by("sari@reef.example", kCodes[0]).plus(attribute));
  EXPECT_EQ(reason(), "the conversation began with another user (indah@reef.example)");
  ask(indah(kCodes[0]).plus(attribute));
  EXPECT_EQ(reason(), "no conversation has this State: it has ended, or has expired");
  ask(indah());
  clock.advance(60s);
  ask(answer(kCodes[0]));
  EXPECT_EQ(reply_code(), wire::Code::access_reject) << "expired";
  EXPECT_EQ(page, identity::CodePage{}) << "none of that was looked at";
}

TEST_F(Factors, TooManyWrongCodesLockAndTheAskerCannotTell) {
  for (int i = 0; i < 2; ++i) {
    ask(indah());
    ask(answer("000000"));
    ask(answer("000000"));
    EXPECT_EQ(reply_code(), wire::Code::access_reject);
  }
  EXPECT_THAT(reason(), HasSubstr("wrong once too often: locked until "));
  ask(indah());
  EXPECT_EQ(reply_code(), wire::Code::access_challenge);
  ask(answer(kCodes[0]));
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
  EXPECT_THAT(reason(), HasSubstr("not looked at: locked until "));
  EXPECT_EQ(support::value_in(reply(), "Reply-Message"), "(none)");
}

TEST_F(Factors, AMethodThatHidesTheCodeIsToldApart) {
  ask(access_request(next_++).user("indah@reef.example").password("").with("User-Name", "x"));
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
}

TEST_F(Factors, OfWhomTheClientVouchesForTheCodeAloneIsAsked) {
  ask(access_request(next_++).user("indah@reef.example"));
  EXPECT_EQ(reply_code(), wire::Code::access_challenge);
  ask(answer(kCodes[2]));
  EXPECT_EQ(reply_code(), wire::Code::access_accept);
  ask(access_request(next_++).user("tamu@reef.example"));
  EXPECT_EQ(reason(), "the user has no token for the second factor ('code')");
}

TEST_F(Factors, WhatCannotBeJudgedLetsNobodyIn) {
  ask(indah());
  receive(answer(kCodes[0]).signed_with(secret("laut")));
  const Ticket ticket = out.jobs.at(0).ticket;
  out.clear();
  engine.on_done(ticket, Judged{fail(Errc::io, "the disk is full")}, {clock.now(), out});
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
  EXPECT_EQ(reason(), "what has served of one-time codes cannot be looked at ('code': the disk is full)");
  ask(indah());
  receive(answer(kCodes[0]).signed_with(secret("laut")));
  wait(11s);
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
  EXPECT_THAT(reason(), HasSubstr("it was not done in time"));
  expect_counters_to_add_up();
}

TEST_F(Factors, APlanWithoutTheRuleEndsWhatIsAskedAsItSays) {
  ask(indah());
  std::string plan = kEngineRoom;
  const std::size_t asks = plan.find("factors = [");
  plan.erase(asks, plan.find("[access.reply]") - asks);
  const std::string given = state();
  engine.use(board.go_live(support::plan_of(plan), 3), {clock.now(), out});
  Octets attribute;
  wire::append_attribute(attribute, wire::AttributeType::state, view_of(given));
  ask(indah("anything").plus(attribute));
  EXPECT_EQ(reply_code(), wire::Code::access_accept) << "the password was right, and no more is asked for";
}

}  // namespace
}  // namespace jembatan::engine
