#include "accounting/record.h"

#include <gtest/gtest.h>

#include "accounting/sessions.h"
#include "support/fakes.h"
#include "support/packets.h"

namespace jembatan::accounting {
namespace {

using namespace std::chrono_literals;
using support::accounting_request;
using support::RequestBuilder;

const WallTime kNow{std::chrono::seconds(1'790'000'000)};

Result<Record> made(const RequestBuilder& request, WallTime now = kNow) {
  const Octets octets = request.signed_with(support::secret("s"));
  auto arrival = arrival_of(*wire::PacketView::parse(octets), {"kerapu", *IpAddress::parse("192.0.2.1")},
                            "reef.example", now);
  if (!arrival) return arrival.error();
  return taken_apart(std::move(*arrival));
}

TEST(Record, TakesTheAttributesApart) {
  const auto record = made(accounting_request("Stop", "s1")
                               .user("sari@reef.example")
                               .with("NAS-Identifier", "deck-2")
                               .with("Acct-Input-Octets", "5")
                               .with("Acct-Input-Gigawords", "2")
                               .with("Acct-Output-Octets", "7")
                               .with("Acct-Session-Time", "60")
                               .with("Acct-Terminate-Cause", "User-Request")
                               .with("Framed-IP-Address", "203.0.113.9")
                               .with("Calling-Station-Id", "02-00-5E-00-53-01"));
  ASSERT_TRUE(record) << record.error().text;
  EXPECT_EQ(record->status, StatusType::stop);
  EXPECT_EQ(record->nas, "deck-2");
  EXPECT_EQ(record->user, "sari@reef.example");
  EXPECT_EQ(record->input_octets, (2ULL << 32U) + 5);  // RFC 2869 §5.1
  EXPECT_EQ(record->output_octets, 7U);
  EXPECT_EQ(record->session_time, 60U);
  EXPECT_EQ(record->terminate_cause, 1U);
  EXPECT_EQ(record->framed_ip, "203.0.113.9");
  EXPECT_EQ(record->calling_station, "02-00-5E-00-53-01");
}

TEST(Record, TheDeviceIsNamedByWhatItSays) {
  EXPECT_EQ(made(accounting_request("Start", "s").with("NAS-IP-Address", "192.0.2.9"))->nas, "192.0.2.9");
  EXPECT_EQ(made(accounting_request("Start", "s").with("NAS-IPv6-Address", "2001:db8::9"))->nas,
            "2001:db8::9");
  EXPECT_EQ(made(accounting_request("Start", "s"))->nas, "kerapu");
}

TEST(Record, WithoutStatusOrSessionItIsNone) {  // RFC 2866 §5.1, §5.5
  EXPECT_EQ(made(RequestBuilder(wire::Code::accounting_request, 1)).error().text,
            "no Acct-Status-Type of 4 octets");
  EXPECT_EQ(
      made(RequestBuilder(wire::Code::accounting_request, 1).with("Acct-Status-Type", "Start")).error().text,
      "no Acct-Session-Id");
  EXPECT_TRUE(
      made(RequestBuilder(wire::Code::accounting_request, 1).with("Acct-Status-Type", "Accounting-On")));
}

TEST(Record, TheEventIsAsOldAsItWasDelayed) {
  EXPECT_EQ(made(accounting_request("Start", "s").with("Acct-Delay-Time", "30"))->event_time, kNow - 30s);
  EXPECT_EQ(made(accounting_request("Start", "s")
                     .with("Event-Timestamp", "1789999000")
                     .with("Acct-Delay-Time", "30"))
                ->event_time,
            WallTime(std::chrono::seconds(1'789'999'000)));
  EXPECT_EQ(made(accounting_request("Start", "s").with("Acct-Delay-Time", "4294967295"))->event_time, kNow);
}

TEST(Record, WhatIsSentOnHasWaitedLonger) {  // RFC 2866 §5.2
  const auto delay_of = [](const Octets& attributes) {
    wire::PacketBuilder packet(wire::Code::accounting_request, 1, {});
    (void)packet.add_encoded(attributes);
    return support::value_in(packet.finish(), "Acct-Delay-Time");
  };
  const auto with = made(accounting_request("Start", "s").with("Acct-Delay-Time", "5"));
  EXPECT_EQ(delay_of(attributes_to_send(*with, kNow + 7s)), "12");
  const auto without = made(accounting_request("Start", "s"));
  EXPECT_EQ(delay_of(attributes_to_send(*without, kNow + 7s)), "7");
  EXPECT_EQ(delay_of(attributes_to_send(*without, kNow + 500ms)), "(none)");
  EXPECT_EQ(delay_of(attributes_to_send(*without, kNow - 10s)), "(none)");  // a clock that went back
}

TEST(Record, WhatDoesNotTellItsTimeIsToldOnWithIt) {  // RFC 2869 §5.3
  const auto event_of = [](const Octets& attributes) {
    return support::value_in(as_packet(attributes), "Event-Timestamp");
  };
  const auto late = made(accounting_request("Start", "s").with("Acct-Delay-Time", "100"));
  EXPECT_EQ(event_of(attributes_to_send(*late, kNow + 7s)), "2026-09-21T14:11:40.000Z");
  const auto told = made(accounting_request("Start", "s").with("Event-Timestamp", "1789999000"));
  EXPECT_EQ(event_of(attributes_to_send(*told, kNow + 7s)), "2026-09-21T13:56:40.000Z");
  const auto no_clock = made(accounting_request("Start", "s"), WallTime(std::chrono::seconds(1000)));
  EXPECT_EQ(event_of(attributes_to_send(*no_clock, kNow)), "(none)");  // our own clock is not set
}

Record at(StatusType status, std::chrono::seconds after, std::uint64_t octets = 0) {
  Record out;
  out.status = status;
  out.client = "kerapu";
  out.nas = "deck-2";
  out.session_id = "s1";
  out.user = "sari";
  out.event_time = kNow + after;
  out.input_octets = octets;
  return out;
}

TEST(Record, WhatAnAccountingRequestMustNotCarryIsNotKept) {  // RFC 2866 §5.13
  const Octets packet = accounting_request("Start", "s1")
                            .user("sari@reef.example")
                            .with("State", "0x0102")
                            .with("Reply-Message", "hello")
                            .plus({2, 18, 1, 2, 3, 4, 5, 6, 7, 8, 1, 2, 3, 4, 5, 6, 7, 8})
                            .signed_with(support::secret("laut"));
  const auto record = arrival_of(*wire::PacketView::parse(packet), {"deck", {}}, "", kNow);
  ASSERT_TRUE(record);
  for (std::size_t at = 0; at < record->attributes.size(); at += record->attributes[at + 1])
    EXPECT_TRUE(record->attributes[at] == 1 || record->attributes[at] >= 40) << int{record->attributes[at]};
}

TEST(Session, BeginsGrowsAndEnds) {
  std::optional<Session> session;
  EXPECT_EQ(follow(session, at(StatusType::start, 0s)), SessionStep::begin);
  EXPECT_EQ(follow(session, at(StatusType::interim_update, 60s, 100)), SessionStep::update);
  EXPECT_EQ(follow(session, at(StatusType::stop, 120s, 250)), SessionStep::update);
  EXPECT_EQ(session->started, kNow);
  EXPECT_EQ(session->ended, kNow + 120s);
  EXPECT_EQ(session->input_octets, 250U);
}

TEST(Session, AStartBehindItsStopDoesNotOpenItAgain) {
  std::optional<Session> session;
  EXPECT_EQ(follow(session, at(StatusType::stop, 120s, 250)), SessionStep::begin);
  EXPECT_EQ(follow(session, at(StatusType::start, 0s)), SessionStep::update);
  EXPECT_EQ(session->started, kNow);
  EXPECT_TRUE(session->ended);
  EXPECT_EQ(follow(session, at(StatusType::interim_update, 60s, 100)), SessionStep::update);
  EXPECT_EQ(session->input_octets, 250U);
  EXPECT_EQ(session->updated, kNow + 120s);
}

TEST(Session, ALaterStartWithTheSameNumberIsAnother) {
  std::optional<Session> session;
  (void)follow(session, at(StatusType::start, 0s));
  (void)follow(session, at(StatusType::stop, 120s, 250));
  EXPECT_EQ(follow(session, at(StatusType::start, 3600s)), SessionStep::begin);
  EXPECT_FALSE(session->ended);
  EXPECT_EQ(session->input_octets, 0U);
}

TEST(Session, AStartOfTheSameTimeIsTheSame) {
  std::optional<Session> session;
  (void)follow(session, at(StatusType::start, 0s));
  EXPECT_EQ(follow(session, at(StatusType::start, 0s)), SessionStep::update);
  (void)follow(session, at(StatusType::stop, 0s, 250));
  EXPECT_EQ(follow(session, at(StatusType::start, 0s)), SessionStep::update);
  EXPECT_TRUE(session->ended);
}

TEST(Session, AnotherUserPortStationOrAddressIsAnotherSession) {
  const auto session_of = [](Record record) {
    std::optional<Session> out;
    (void)follow(out, record);
    return *out;
  };
  Record first = at(StatusType::start, 0s);
  first.port = "3";
  first.framed_ip = "203.0.113.9";
  const Session session = session_of(first);
  Record other = first;
  EXPECT_TRUE(belongs(session, other));
  other.user = "tamu";
  EXPECT_FALSE(belongs(session, other));
  other = first;
  other.port = "4";
  EXPECT_FALSE(belongs(session, other));
  other = first;
  other.framed_ip = "203.0.113.10";
  EXPECT_FALSE(belongs(session, other));
  other.framed_ip.clear();  // not told yet
  EXPECT_TRUE(belongs(session, other));
}

TEST(Session, AStationThatGetsAnotherAddressIsStillTheSame) {
  Record first = at(StatusType::start, 0s);
  first.calling_station = "02-00-5E-00-53-01";
  first.framed_ip = "203.0.113.9";
  std::optional<Session> session;
  (void)follow(session, first);
  first.framed_ip = "203.0.113.10";
  EXPECT_TRUE(belongs(*session, first));
  first.calling_station = "02-00-5E-00-53-02";
  EXPECT_FALSE(belongs(*session, first));
}

TEST(Session, ComesByASecondHubIfUserAndStationAreTheSame) {
  Record first = at(StatusType::start, 0s);
  std::optional<Session> session;
  (void)follow(session, first);
  Record other = first;
  other.client = "hub-2";
  EXPECT_FALSE(belongs(*session, other));  // devices of two clients may have one name
  first.port = "3";
  (void)follow(session, first);
  other.port = "3";
  EXPECT_TRUE(belongs(*session, other));
}

TEST(Session, EndedWithoutAStopIsOpenAgainWhenItIsHeardOf) {
  std::optional<Session> session;
  (void)follow(session, at(StatusType::start, 0s));
  session->ended = kNow + 300s;
  session->ended_by = EndedBy::silence;
  (void)follow(session, at(StatusType::interim_update, 200s));
  EXPECT_TRUE(session->ended);  // that was before
  (void)follow(session, at(StatusType::interim_update, 900s));
  EXPECT_FALSE(session->ended);
  EXPECT_EQ(session->ended_by, EndedBy::nothing);
  (void)follow(session, at(StatusType::stop, 1000s));
  EXPECT_EQ(session->ended_by, EndedBy::stop);
  (void)follow(session, at(StatusType::interim_update, 1100s));
  EXPECT_TRUE(session->ended);  // it said so itself
}

TEST(Session, IsLostAfterThreeIntervalsOrADay) {
  std::optional<Session> session;
  Record record = at(StatusType::start, 0s);
  record.received = kNow;
  (void)follow(session, record);
  EXPECT_EQ(lost_from(*session, {}), kNow + 24h);
  record = at(StatusType::interim_update, 600s);
  record.received = kNow + 601s;
  (void)follow(session, record);
  EXPECT_EQ(session->interval, 600s);
  EXPECT_EQ(lost_from(*session, {}), kNow + 601s + 1800s);
  session->interval = 10s;  // not at once
  EXPECT_EQ(lost_from(*session, {}), kNow + 601s + 300s);
}

TEST(Session, RecordsAboutTheDeviceOrOfUnknownKindChangeNothing) {
  std::optional<Session> session;
  EXPECT_EQ(follow(session, at(StatusType::accounting_on, 0s)), SessionStep::nothing);
  EXPECT_EQ(follow(session, at(static_cast<StatusType>(15), 0s)), SessionStep::nothing);
  EXPECT_FALSE(session);
}

TEST(SessionNumbers, AreWrittenAndReadWithTheNodeThatTheyBeganAt) {
  EXPECT_EQ(session_number(17), "17");
  EXPECT_EQ(session_number(id_elsewhere(3, 17)), "3/17");
  for (const std::int64_t id :
       {std::int64_t{1}, std::int64_t{17}, id_elsewhere(3, 17), id_elsewhere(32767, 1)})
    EXPECT_EQ(session_numbered(session_number(id)), id);
  EXPECT_EQ(session_numbered(std::to_string(id_elsewhere(3, 17))), id_elsewhere(3, 17));
  for (const char* wrong : {"", "/", "3/", "/17", "-1", "3/-1", "3/17/1", "17 ", "99999999999999999999",
                            "32768/1", "1/1099511627776"})
    EXPECT_FALSE(session_numbered(wrong)) << wrong;
}

}  // namespace
}  // namespace jembatan::accounting
