// What is a resend, and what is not.
#include "accounting/keys.h"

#include <gtest/gtest.h>

#include "accounting/known_records.h"
#include "accounting/packed.h"
#include "support/packets.h"

namespace jembatan::accounting {
namespace {

using namespace std::chrono_literals;
using support::accounting_request;
using support::RequestBuilder;

const WallTime kWhen{std::chrono::seconds(1'790'000'000)};

Arrival came(const RequestBuilder& request, std::chrono::seconds after = 0s, std::string client = "kerapu",
             const char* address = "192.0.2.1") {
  const Octets octets = request.signed_with(support::secret("s"));
  auto out = arrival_of(*wire::PacketView::parse(octets), {std::move(client), *IpAddress::parse(address)}, "",
                        kWhen + after);
  EXPECT_TRUE(out) << out.error().text;
  return *out;
}

bool is_resend(const Arrival& first, const Arrival& second) {
  KnownRecords known(10);
  Arrival numbered = first;
  numbered.id = 7;
  known.add(numbered);
  const auto found = known.find(second);
  EXPECT_TRUE(!found || *found == 7);
  return found.has_value();
}

RequestBuilder start(std::uint8_t identifier = 1) {
  return accounting_request("Start", "s1", identifier).user("sari").with("NAS-Identifier", "deck-2");
}

TEST(Resend, HasANewIdentifierAndALargerDelay) {  // RFC 2866 §5.2
  const auto first = came(start(1).with("Acct-Delay-Time", "0"));
  EXPECT_TRUE(is_resend(first, came(start(2).with("Acct-Delay-Time", "8"), 8s)));
  EXPECT_TRUE(is_resend(first, came(start(3).with("Acct-Delay-Time", "7200"), 7200s)));
  EXPECT_TRUE(is_resend(first, came(start(1).with("Proxy-State", "x"))));
}

TEST(Resend, MayHaveOtherAttributesThatAreNotOfTheEvent) {
  EXPECT_TRUE(is_resend(came(start()), came(start().with("Class", "crew"))));
}

TEST(Resend, IsNoOtherEvent) {
  const auto first = came(start());
  EXPECT_FALSE(is_resend(
      first, came(accounting_request("Start", "s2").user("sari").with("NAS-Identifier", "deck-2"))));
  EXPECT_FALSE(
      is_resend(first, came(accounting_request("Stop", "s1").user("sari").with("NAS-Identifier", "deck-2"))));
  EXPECT_FALSE(is_resend(
      first, came(accounting_request("Start", "s1").user("tamu").with("NAS-Identifier", "deck-2"))));
  EXPECT_FALSE(is_resend(first, came(start().with("NAS-Port", "4"))));
  EXPECT_FALSE(is_resend(first, came(start().with("Framed-IP-Address", "203.0.113.9"))));
  EXPECT_FALSE(is_resend(first, came(start(), 3600s)));  // the device has begun to count anew
}

TEST(Resend, WithATimeOfItsOwnMayComeHoursLater) {  // RFC 2869 §5.3
  const auto first = came(start().with("Event-Timestamp", "1790000000"));
  EXPECT_TRUE(is_resend(first, came(start().with("Event-Timestamp", "1790000000"), 9h)));
  EXPECT_TRUE(
      is_resend(first, came(start().with("Event-Timestamp", "1790000000"), -1h)));  // our clock went back
  EXPECT_FALSE(is_resend(first, came(start().with("Event-Timestamp", "1790000001"))));
}

TEST(Resend, OfAnInterimSaysAllTheSame) {
  const auto interim = [](const char* octets) {
    return accounting_request("Interim-Update", "s1").user("sari").with("Acct-Input-Octets", octets);
  };
  EXPECT_TRUE(is_resend(came(interim("5")), came(interim("5").with("Acct-Delay-Time", "4"), 4s)));
  EXPECT_FALSE(is_resend(came(interim("5")), came(interim("6"))));
}

TEST(Resend, ByAnotherClientIsOneOnlyIfItTellsItsTimeAndSaysTheSame) {
  const auto first = came(start());
  EXPECT_FALSE(is_resend(first, came(start(), 0s, "tuna")));  // its devices may have the same names
  EXPECT_FALSE(is_resend(first, came(start(), 0s, "kerapu", "192.0.2.2")));
  const auto told = came(start().with("Event-Timestamp", "1790000000"));
  EXPECT_TRUE(is_resend(told, came(start().with("Event-Timestamp", "1790000000"), 5s, "hub-2", "192.0.2.7")));
  // What one client says never stands for what another says.
  EXPECT_FALSE(
      is_resend(told, came(start().with("Event-Timestamp", "1790000000").with("Class", "x"), 5s, "hub-2")));
  EXPECT_TRUE(
      is_resend(told, came(start().with("Event-Timestamp", "1790000000"), 5s, "kerapu", "192.0.2.7")));
}

TEST(Resend, OfADeviceWithoutAClockIsNotAnothersEvent) {
  const auto first = came(start().with("Event-Timestamp", "12"));
  EXPECT_FALSE(is_resend(first, came(start().with("Event-Timestamp", "12"), 0s, "tuna")));
  EXPECT_TRUE(is_resend(first, came(start().with("Event-Timestamp", "12"), 4s)));
}

TEST(Digest, IsTheSameAtEveryHop) {
  const auto here = came(start(1).with("Acct-Delay-Time", "3"));
  const auto there =
      came(start(9).with("Proxy-State", "hub").with("Acct-Delay-Time", "70"), 67s, "hub", "192.0.2.9");
  EXPECT_EQ(here.digest, there.digest);
  EXPECT_NE(here.digest, came(start().with("Class", "x")).digest);
}

TEST(Known, TheOldestGiveTheirPlacesAndThatIsKnown) {
  KnownRecords known(3);
  std::vector<Arrival> all;
  for (int i = 0; i < 5; ++i) {
    all.push_back(came(accounting_request("Start", std::to_string(i)).user("sari"), std::chrono::hours(i)));
    all.back().id = i + 1;
    known.add(all.back());
  }
  EXPECT_EQ(known.size(), 3U);
  EXPECT_FALSE(known.find(all[1]));
  EXPECT_TRUE(known.may_be_older(all[1]));
  EXPECT_EQ(known.find(all[2]), 3);
  EXPECT_FALSE(known.may_be_older(all[3]));
  EXPECT_EQ(known.find(all[4]), 5);
}

TEST(Known, WhatCouldNotBeKeptIsForgotten) {
  KnownRecords known(4);
  std::vector<Arrival> all;
  for (int round = 0; round < 20; ++round) {
    all.push_back(came(accounting_request("Start", std::to_string(round)), std::chrono::hours(round)));
    all.back().id = round + 1;
    known.add(all.back());
    if (round % 3 == 2) {
      known.forget_newest(1);
      EXPECT_FALSE(known.find(all.back()));
      EXPECT_EQ(known.find(all[all.size() - 2]), round);
      known.add(all.back());
    }
    EXPECT_EQ(known.find(all.back()), round + 1);
  }
}

TEST(Packed, ComesBackAsItWas) {
  std::vector<Incoming> records;
  records.push_back({came(start()), true, {"reef-homes", "archive"}});
  records.push_back({came(accounting_request("Stop", "s2").user("tamu@reef.example"), -9s), false, {}});
  records[0].arrival.id = 12;
  records[1].arrival.id = 13;
  records[1].arrival.realm = "reef.example";
  const auto back = unpacked(packed(records));
  ASSERT_TRUE(back) << back.error().text;
  ASSERT_EQ(back->size(), 2U);
  for (std::size_t i = 0; i < 2; ++i) {
    const Arrival& is = (*back)[i].arrival;
    const Arrival& was = records[i].arrival;
    EXPECT_EQ(is.id, was.id);
    EXPECT_EQ(is.received, was.received);
    EXPECT_EQ(is.event_time, was.event_time);
    EXPECT_EQ(is.client, was.client);
    EXPECT_EQ(is.source, was.source);
    EXPECT_EQ(is.realm, was.realm);
    EXPECT_EQ(is.attributes, was.attributes);
    EXPECT_EQ(is.key, was.key);
    EXPECT_EQ(is.digest, was.digest);
    EXPECT_EQ((*back)[i].keep, records[i].keep);
    EXPECT_EQ((*back)[i].groups, records[i].groups);
  }
}

TEST(Packed, DamageIsSeen) {
  const Octets good = packed(std::vector<Incoming>{{came(start()), true, {}}});
  EXPECT_TRUE(unpacked(packed(std::vector<Incoming>{})));
  for (std::size_t at = 0; at < good.size(); ++at) {
    Octets damaged = good;
    damaged[at] ^= 1U;
    EXPECT_FALSE(unpacked(damaged)) << at;
    EXPECT_FALSE(unpacked(OctetView(good).first(at))) << at;
  }
}

}  // namespace
}  // namespace jembatan::accounting
