// Requests about sessions that last (RFC 5176): whose they may be, which session is meant, where they go.
#include "engine/dynamic_authorization.h"

#include <gmock/gmock.h>

#include "base/text.h"
#include "unit/engine/one_node.h"

namespace jembatan::engine {
namespace {

using support::disconnect_request;
using support::RequestBuilder;
using support::secret;
using support::value_in;
using testing::HasSubstr;
using wire::Code;

constexpr const char* kHubPlan = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
authorization_port = 3799
[[client]]
name = "mute-deck"
address = "192.0.2.66"
secret = "laut"
[[client]]
name = "reef-1"
address = "198.51.100.1"
secret = "terumbu"
may_disconnect = ["reef.example"]
may_change = ["reef.example"]
[[client]]
name = "lagoon-1"
address = "198.51.100.2"
secret = "danau"
may_disconnect = ["lagoon.example", "*.islands.example"]
[[client]]
name = "old-home"
address = "198.51.100.3"
secret = "tua"
message_authenticator = "if-present"
may_disconnect = ["*"]
[[client]]
name = "stranger"
address = "198.51.100.4"
secret = "asing"
)";

// What accounting has told.
class ToldSessions final : public SessionFinder {
 public:
  void add(RequestBuilder told, std::string_view client, const char* from, std::string_view realm) {
    const Octets packet = told.signed_with(secret("laut"));
    auto arrival = accounting::arrival_of(*wire::PacketView::parse(packet),
                                          {std::string(client), *IpAddress::parse(from)}, std::string(realm),
                                          WallTime(std::chrono::seconds(1'790'000'000)));
    arrival->id = static_cast<std::int64_t>(records.size()) + 1;
    records.push_back(accounting::taken_apart(std::move(*arrival)));
  }
  Result<std::vector<accounting::Session>> sessions(const accounting::Query& query) override {
    std::vector<accounting::Session> out;
    const auto is = [](const std::string& asked, const std::string& known) {
      return asked.empty() || asked == known;
    };
    for (const accounting::Record& one : records) {
      if (is(query.session_id, one.session_id) && is(query.calling_station, one.calling_station) &&
          (query.user.empty() || one.user.starts_with(query.user)) && out.size() < query.most)
        out.push_back(session_of(one));
    }
    return out;
  }
  Result<std::vector<accounting::Record>> records_of(const accounting::Session& session) override {
    return std::vector<accounting::Record>{records.at(static_cast<std::size_t>(session.id - 1))};
  }
  static accounting::Session session_of(const accounting::Record& record) {
    accounting::Session out;
    out.id = record.id;
    out.client = record.client;
    out.nas = record.nas;
    out.session_id = record.session_id;
    out.user = record.user;
    out.realm = record.realm;
    return out;
  }
  std::vector<accounting::Record> records;
};

RequestBuilder start_of(std::string_view user, std::string_view session) {
  return support::accounting_request("Start", session)
      .user(user)
      .with("NAS-Identifier", "deck-2")
      .with("NAS-Port", "3");
}

class DynamicAuthorizations : public testing::Test {
 protected:
  DynamicAuthorizations() {
    authorization.use(board.go_live(support::plan_of(kHubPlan), 1));
    told.add(start_of("sari@reef.example", "4711"), "deck", "192.0.2.9", "reef.example");
    told.add(start_of("rani@lagoon.example", "4712"), "deck", "192.0.2.9", "lagoon.example");
    clock.advance(std::chrono::seconds(5));
  }
  static DynamicAuthorization::Parts parts(SessionFinder& sessions) {
    return {{{forward::Purpose::authorization, {}}},
            sessions,
            std::make_shared<const LoopMark>(Secret("0123456789abcdef")),
            support::FakeClock().now()};
  }
  std::string seconds_from_now(int by = 0) const {
    return std::to_string(std::chrono::system_clock::to_time_t(clock.now().wall) + by);
  }
  // A request about session 4711, of now.
  RequestBuilder about_4711(std::uint8_t identifier = 5) const {
    return disconnect_request(identifier)
        .with("Acct-Session-Id", "4711")
        .with("Event-Timestamp", seconds_from_now());
  }
  void receive(const Octets& datagram, const char* from = "198.51.100.1:4000") {
    out.clear();
    authorization.handle({0, *Endpoint::parse(from, 0), {}, datagram}, {clock.now(), out});
  }
  void from_home(const RequestBuilder& request) { receive(request.signed_with(secret("terumbu"))); }
  std::string outcome() const {
    return out.events.empty() ? "none" : std::string(name_of(out.events.at(0).outcome));
  }
  std::string reason() const { return reason_text(out.events.at(0)); }
  OctetView reply() const { return out.replies.empty() ? OctetView{} : out.view(out.replies[0].packet); }
  // "Disconnect-NAK 503", "Disconnect-ACK", "none".
  std::string answer() const {
    if (out.replies.empty()) return "none";
    const auto packet = *wire::PacketView::parse(reply());
    const auto cause = wire::number_in(packet.find(wire::AttributeType::error_cause));
    return wire::name_of(packet.code()) + (cause ? " " + std::to_string(*cause) : "");
  }
  // What was sent to the device; the test fails if nothing was.
  wire::PacketView sent() {
    EXPECT_EQ(out.asks.size(), 1U);
    const OctetView view = out.view(out.asks.at(0).packet);
    asked.assign(view.begin(), view.end());
    return *wire::PacketView::parse(asked);
  }
  void device_answers(Code code, const Octets& attributes = {}) {
    const auto request = *wire::PacketView::parse(asked);
    wire::PacketBuilder packet(code, request.identifier(), request.authenticator());
    (void)packet.add_encoded(attributes);
    wire::sign_response(packet.finish(), request.authenticator(), secret("laut"));
    out.clear();
    authorization.on_reply(0, {*IpAddress::parse("192.0.2.9"), 3799}, packet.finish(), {clock.now(), out});
  }
  void wait(std::chrono::milliseconds time) {
    out.clear();
    authorization.on_timer({clock.advance(time), out});
  }
  void expect_counters_to_add_up() const {
    std::uint64_t ended = 0;
    for (std::size_t i = 0; i < kOutcomes; ++i) ended += counters.count(static_cast<Outcome>(i));
    EXPECT_EQ(counters.received_count(), ended + authorization.under_way());
  }

  support::FakeClock clock;
  support::FixedRandom random{1};
  Counters counters;
  forward::HealthBoard board;
  ToldSessions told;
  DynamicAuthorization authorization{parts(told), random, counters};
  Actions out;
  Octets asked;
};

TEST_F(DynamicAuthorizations, GoToTheDeviceOfTheSessionAndItsAnswerComesBack) {
  from_home(about_4711().with("Proxy-State", "0x0707").user("sari"));
  const auto packet = sent();
  EXPECT_EQ(out.asks[0].to.text(), "192.0.2.9:3799") << "where its records come from";
  EXPECT_EQ(packet.code(), Code::disconnect_request);
  EXPECT_TRUE(wire::verify_digested_request(packet, secret("laut")));
  EXPECT_EQ(wire::check_message_authenticator(packet, {}, secret("laut")), wire::Signature::valid);
  EXPECT_EQ(value_in(asked, "User-Name"), R"("sari@reef.example")") << "the name that the device knows";
  EXPECT_EQ(value_in(asked, "Acct-Session-Id"), R"("4711")");
  EXPECT_TRUE(out.replies.empty());
  device_answers(Code::disconnect_ack);
  EXPECT_EQ(answer(), "Disconnect-ACK");
  EXPECT_EQ(value_in(reply(), "Proxy-State"), "0x0707") << "the asker's own alone";
  EXPECT_EQ(outcome(), "acknowledged");
  EXPECT_EQ(out.events[0].server, "client/deck");
  EXPECT_THAT(reason(), HasSubstr("session 1 of 'sari@reef.example' at client deck"));
  expect_counters_to_add_up();
}

TEST_F(DynamicAuthorizations, WhatTheDeviceRefusesIsRefusedForItsReason) {
  from_home(about_4711());
  sent();
  device_answers(Code::disconnect_nak, {101, 6, 0, 0, 1, 248});
  EXPECT_EQ(answer(), "Disconnect-NAK 504");
  EXPECT_EQ(outcome(), "not-acknowledged");
  EXPECT_THAT(reason(), HasSubstr("Error-Cause 504"));
}

TEST_F(DynamicAuthorizations, AnAnswerToAnotherKindOfRequestIsNone) {
  from_home(about_4711());
  sent();
  device_answers(Code::coa_ack);
  EXPECT_EQ(outcome(), "reply-malformed");
  EXPECT_EQ(answer(), "none");
}

// Where a company's server asks for the session of another company's user, there is none.
TEST_F(DynamicAuthorizations, SessionsOfOtherRealmsDoNotExist) {
  const auto of_rani = [&] {
    return disconnect_request().with("Acct-Session-Id", "4712").with("Event-Timestamp", seconds_from_now());
  };
  from_home(of_rani());
  EXPECT_EQ(answer(), "Disconnect-NAK 503");
  EXPECT_TRUE(out.asks.empty());
  EXPECT_THAT(reason(), HasSubstr("session 2 is of realm 'lagoon.example'"));
  from_home(of_rani().user("sari@reef.example"));
  EXPECT_EQ(answer(), "Disconnect-NAK 503");
  receive(of_rani().signed_with(secret("danau")), "198.51.100.2:4000");
  EXPECT_EQ(out.asks.size(), 1U) << "its own company may";
}

// Who has a session of their own must not reach another one by what else is told of it.
TEST_F(DynamicAuthorizations, EverythingThatIsToldOfTheSessionMustBeSo) {
  std::uint8_t identifier = 20;
  const auto refused = [&](const char* name, const char* value) {
    from_home(about_4711(++identifier).with(name, value));
    EXPECT_EQ(answer(), "Disconnect-NAK 503") << name;
    return reason();
  };
  EXPECT_THAT(refused("NAS-Port", "4"), HasSubstr("session 1: it has another NAS-Port"));
  EXPECT_THAT(refused("User-Name", "rani@lagoon.example"), HasSubstr("another User-Name"));
  EXPECT_THAT(refused("NAS-Identifier", "deck-3"), HasSubstr("another NAS-Identifier"));
  EXPECT_THAT(refused("Acct-Multi-Session-Id", "9"),
              HasSubstr("no record of it tells Acct-Multi-Session-Id"));
  EXPECT_THAT(refused("Framed-IP-Address", "192.0.2.200"), HasSubstr("no record of it tells"));
  from_home(about_4711(1).with("Acct-Session-Id", "4712"));
  EXPECT_EQ(answer(), "Disconnect-NAK 404");
  EXPECT_THAT(reason(), HasSubstr("Acct-Session-Id"));
  from_home(
      disconnect_request(2).with("NAS-Identifier", "deck-2").with("Event-Timestamp", seconds_from_now()));
  EXPECT_EQ(answer(), "Disconnect-NAK 402") << "a whole device is no session";
  EXPECT_TRUE(out.asks.empty());
}

TEST_F(DynamicAuthorizations, SeveralSessionsThatFitAreNotChosenFrom) {
  told.add(start_of("sari@reef.example", "4713"), "deck", "192.0.2.9", "reef.example");
  from_home(disconnect_request().user("sari@reef.example").with("Event-Timestamp", seconds_from_now()));
  EXPECT_EQ(answer(), "Disconnect-NAK 508");
  EXPECT_THAT(reason(), HasSubstr("1 and 3"));
}

TEST_F(DynamicAuthorizations, WhoMayNotAskIsToldSo) {
  receive(about_4711().signed_with(secret("asing")), "198.51.100.4:4000");
  EXPECT_EQ(answer(), "Disconnect-NAK 501");
  EXPECT_THAT(reason(), HasSubstr("may_disconnect"));
  RequestBuilder change(Code::coa_request, 6);
  change.with("Acct-Session-Id", "4712").with("Event-Timestamp", seconds_from_now());
  receive(change.signed_with(secret("danau")), "198.51.100.2:4000");
  EXPECT_EQ(answer(), "CoA-NAK 501");
  EXPECT_THAT(reason(), HasSubstr("may_change"));
}

TEST_F(DynamicAuthorizations, ARequestIsOfNowAndIsCarriedOutOnce) {
  const Octets first = about_4711().signed_with(secret("terumbu"));
  receive(first);
  sent();
  receive(first);
  EXPECT_EQ(outcome(), "repeat-waiting");
  device_answers(Code::disconnect_ack);
  receive(first);
  EXPECT_EQ(outcome(), "repeat-answered");
  EXPECT_EQ(answer(), "Disconnect-ACK") << "the same reply";
  receive(first, "198.51.100.1:4001");
  EXPECT_EQ(outcome(), "replayed") << "from another port";
  EXPECT_EQ(answer(), "none");
  wait(std::chrono::seconds(60));
  receive(first);
  EXPECT_EQ(outcome(), "replayed") << "when the reply is not kept any more";
  wait(std::chrono::seconds(300));
  receive(first);
  EXPECT_THAT(reason(), HasSubstr("s behind this node's clock"));
  from_home(
      disconnect_request().with("Acct-Session-Id", "4711").with("Event-Timestamp", seconds_from_now(301)));
  EXPECT_EQ(outcome(), "replayed");
  EXPECT_THAT(reason(), HasSubstr("301 s before this node's clock"));
  from_home(disconnect_request(9).with("Acct-Session-Id", "4711"));
  EXPECT_EQ(answer(), "Disconnect-NAK 402") << "it could be of any time";
  expect_counters_to_add_up();
}

TEST_F(DynamicAuthorizations, WhatWasSentBeforeTheNodeBeganIsNotCarriedOut) {
  from_home(
      disconnect_request().with("Acct-Session-Id", "4711").with("Event-Timestamp", seconds_from_now(-6)));
  EXPECT_EQ(outcome(), "replayed");
  EXPECT_THAT(reason(), HasSubstr("before this node began"));
}

// An hour later somebody sets the clock back by an hour: what was sent then is of now once more.
TEST_F(DynamicAuthorizations, AClockThatIsSetBackLetsNothingInAgain) {
  const Octets first = about_4711().signed_with(secret("terumbu"));
  receive(first);
  sent();
  device_answers(Code::disconnect_ack);
  const WallTime then = clock.now().wall;
  wait(std::chrono::hours(1));
  out.clear();
  authorization.handle({0, *Endpoint::parse("198.51.100.1:4001", 0), {}, first},
                       {{clock.now().steady, then}, out});
  EXPECT_EQ(outcome(), "replayed");
  EXPECT_THAT(reason(), HasSubstr("set back by 3600 s"));
  EXPECT_TRUE(out.asks.empty());
}

TEST_F(DynamicAuthorizations, WhoeverCannotSignIsNotHeard) {
  receive(about_4711().signed_with(secret("salah")));
  EXPECT_EQ(outcome(), "wrong-signature");
  receive(about_4711().not_signed(secret("terumbu")));
  EXPECT_EQ(outcome(), "unsigned-request");
  receive(about_4711().not_signed(secret("tua")), "198.51.100.3:4000");
  EXPECT_EQ(out.asks.size(), 1U) << "if-present";
  receive(about_4711().signed_with(secret("x")), "203.0.113.9:4000");
  EXPECT_EQ(outcome(), "unknown-client");
  receive(support::access_request().user("sari").password("x").signed_with(secret("terumbu")));
  EXPECT_EQ(outcome(), "wrong-code");
  receive({1, 2, 3});
  EXPECT_EQ(outcome(), "malformed");
  expect_counters_to_add_up();
}

TEST_F(DynamicAuthorizations, ADeviceThatIsSilentIsAskedAgainAndThenTheAskerIsTold) {
  from_home(about_4711());
  sent();
  std::size_t again = 0;
  for (int i = 0; i < 40 && out.replies.empty(); ++i) {
    wait(std::chrono::milliseconds(500));
    again += out.asks.size();
  }
  EXPECT_GE(again, 2U);
  EXPECT_EQ(answer(), "Disconnect-NAK 505");
  EXPECT_THAT(reason(), HasSubstr("deck at 192.0.2.9:3799"));
  EXPECT_EQ(authorization.under_way(), 0U);
}

// So that who is next to the silence says so, and not who waits for that one.
TEST_F(DynamicAuthorizations, WhoIsFurtherDownTheChainGivesUpSooner) {
  const auto given_up_after = [&](const RequestBuilder& request) {
    from_home(request);
    sent();
    std::chrono::milliseconds waited{0};
    for (; out.replies.empty() && waited < std::chrono::seconds(30); waited += std::chrono::milliseconds(100))
      wait(std::chrono::milliseconds(100));
    return waited;
  };
  const auto near = given_up_after(about_4711(5));
  const auto far = given_up_after(about_4711(6).with("Proxy-State", "0x01").with("Proxy-State", "0x02"));
  EXPECT_EQ(near, std::chrono::seconds(12));
  EXPECT_EQ(far, std::chrono::seconds(8));
}

TEST_F(DynamicAuthorizations, AClientThatTakesNoSuchRequestsIsNamed) {
  told.add(start_of("sari@reef.example", "4714"), "mute-deck", "192.0.2.66", "reef.example");
  from_home(disconnect_request().with("Acct-Session-Id", "4714").with("Event-Timestamp", seconds_from_now()));
  EXPECT_EQ(answer(), "Disconnect-NAK 502");
  EXPECT_THAT(reason(), HasSubstr("mute-deck"));
}

TEST_F(DynamicAuthorizations, WhatWasHereBeforeGoesNoFurther) {
  from_home(about_4711());
  const auto mark = sent().find(wire::AttributeType::proxy_state);
  ASSERT_TRUE(mark);
  from_home(about_4711(6).with("Proxy-State", "0x" + to_hex(mark->value)));
  EXPECT_EQ(answer(), "Disconnect-NAK 502");
  EXPECT_THAT(reason(), HasSubstr("circle"));
}

TEST_F(DynamicAuthorizations, HiddenAttributesAreRefused) {
  RequestBuilder change(Code::coa_request, 6);
  change.with("Acct-Session-Id", "4711").with("Event-Timestamp", seconds_from_now());
  change.plus({69, 21, 0, 0x80, 1, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16});
  from_home(change);
  EXPECT_EQ(answer(), "CoA-NAK 401");
  EXPECT_THAT(reason(), HasSubstr("Tunnel-Password"));
}

TEST_F(DynamicAuthorizations, TheNodeItselfAsks) {
  std::vector<SessionAnswer> came;
  const auto done = [&](const SessionAnswer& answer, const Turn&) { came.push_back(answer); };
  const accounting::Record& record = told.records[0];
  SessionRequest request{Code::disconnect_request,
                         {ToldSessions::session_of(record), record.source, {}},
                         identification_of({&record, 1})};
  authorization.ask(request, {clock.now(), out}, done);
  const auto packet = sent();
  EXPECT_EQ(value_in(asked, "User-Name"), R"("sari@reef.example")");
  EXPECT_EQ(value_in(asked, "NAS-Identifier"), R"("deck-2")");
  EXPECT_EQ(value_in(asked, "NAS-Port"), "3");
  EXPECT_EQ(value_in(asked, "Acct-Session-Id"), R"("4711")");
  EXPECT_TRUE(packet.find(wire::AttributeType::event_timestamp));
  EXPECT_FALSE(packet.find(wire::AttributeType::proxy_state));
  device_answers(Code::disconnect_ack);
  ASSERT_EQ(came.size(), 1U);
  ASSERT_EQ(out.notices.size(), 1U) << "the log has it";
  EXPECT_EQ(out.notices[0].subject, "session 1 of 'sari@reef.example' at client deck");
  EXPECT_EQ(out.notices[0].text, "Disconnect-Request to 192.0.2.9:3799: Disconnect-ACK");
  EXPECT_EQ(came[0].code, Code::disconnect_ack);
  EXPECT_EQ(came[0].device + " at " + came[0].at.text(), "deck at 192.0.2.9:3799");
  request.of.session.client = "gone";
  authorization.ask(request, {clock.now(), out}, done);
  EXPECT_THAT(came.at(1).why_not, HasSubstr("the plan has lost the client"));
  request.of.session.client = "deck";
  authorization.ask(request, {clock.now(), out}, done);
  authorization.stop({clock.now(), out});
  EXPECT_THAT(came.at(2).why_not, HasSubstr("stopped"));
}

// While the secret of a device is rotated, it is asked by the one that it uses.
TEST_F(DynamicAuthorizations, ADeviceIsAskedByTheSecretThatItUses) {
  std::string rotated(kHubPlan);
  rotated.replace(rotated.find("secret = \"laut\""), 15, "secret = \"baru\"\nold_secret = \"laut\"");
  const auto live = board.go_live(support::plan_of(rotated), 2);
  authorization.use(live);
  from_home(about_4711());
  EXPECT_TRUE(wire::verify_digested_request(sent(), secret("baru")));
  live->activity_of(*live->plan->client_named("deck")).verified(plan::WhichSecret::old, clock.now().wall);
  from_home(about_4711(6));
  EXPECT_TRUE(wire::verify_digested_request(sent(), secret("laut")));
}

TEST(SeenRequest, IsKnownForAWhileAndOneClientsDoNotCrowdOutAnothers) {
  using Seen = SeenRequests::Seen;
  SeenRequests seen(2, std::chrono::seconds(600));
  const TimePoint start{std::chrono::hours(1)};
  const auto number = [](std::uint8_t n) { return wire::Authenticator{n}; };
  EXPECT_EQ(seen.look("a", number(1), start), Seen::fresh);
  EXPECT_EQ(seen.look("a", number(2), start), Seen::fresh);
  EXPECT_EQ(seen.look("a", number(3), start), Seen::full);
  EXPECT_EQ(seen.look("b", number(1), start), Seen::fresh) << "of another client";
  EXPECT_EQ(seen.look("a", number(1), start + std::chrono::seconds(599)), Seen::before);
  EXPECT_EQ(seen.look("a", number(2), start + std::chrono::seconds(1100)), Seen::before);
  EXPECT_EQ(seen.look("a", number(2), start + std::chrono::seconds(1800)), Seen::fresh);
}

}  // namespace
}  // namespace jembatan::engine
