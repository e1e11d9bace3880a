#include "condition/condition.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/text.h"
#include "support/packets.h"

namespace jembatan::condition {
namespace {

using support::access_request;
using support::secret;
using testing::HasSubstr;

// A passenger's sign-in at a wireless deck unit, on a Monday morning (UTC).
class Conditions : public testing::Test {
 protected:
  Conditions()
      : octets(access_request()
                   .user("sari@reef.example")
                   .with("NAS-Port-Type", "Wireless-802-11")
                   .with("NAS-IP-Address", "192.0.2.40")
                   .with("Called-Station-Id", "02-00-5E-00-53-01:Deck")
                   .with("Filter-Id", "crew")
                   .with("Filter-Id", "deck")
                   .with("Session-Timeout", "600")
                   .with("26.32473.5", "0x0102")
                   .signed_with(secret("x"))),
        packet(*wire::PacketView::parse(octets)) {
    facts.packet = &packet;
    facts.catalogue = &dictionary::standard();
    facts.user = "sari";
    facts.realm = "reef.example";
    facts.client = "kerapu-deck-2";
    facts.listener = "access";
    facts.method = "pap";
    facts.labels = &labels;
    facts.groups = &groups;
    facts.now = *parse_time("2026-11-23T08:30:00Z");
  }

  bool holds(std::string_view source) {
    std::vector<Mistake> mistakes;
    const auto condition = Condition::parse(source, dictionary::standard(), mistakes);
    EXPECT_TRUE(condition) << source << ": " << (mistakes.empty() ? "" : mistakes.front().text);
    return condition && condition->holds(facts);
  }

  Octets octets;
  wire::PacketView packet;
  std::map<std::string, std::string> labels{{"place", "reef/kerapu"}, {"kind", "wireless"}};
  std::vector<std::string> groups{"crew"};
  Facts facts;
};

TEST_F(Conditions, LookInsideOtherAttributes) {  // RFC 6929 §2.1, §2.3
  dictionary::Catalogue names(dictionary::standard());
  dictionary::Vendor vendor;
  vendor.number = 32473;
  vendor.name = "Strait";
  ASSERT_TRUE(names.add(vendor));
  const auto define = [&](const char* name, dictionary::Path path, dictionary::DataType type) {
    dictionary::Definition out;
    out.name = name;
    out.path = std::move(path);
    out.type = type;
    ASSERT_TRUE(names.add(std::move(out)));
  };
  define("Strait-Berth", {26, 32473, 4}, dictionary::DataType::tlv);
  define("Strait-Berth-Number", {26, 32473, 4, 1}, dictionary::DataType::integer);
  define("Strait-Buoy", {241, 26, 32473, 7}, dictionary::DataType::integer);
  const Octets with_others = access_request()
                                 .with("26.32473.4", "0x02060000000101060000000c01060000000d")
                                 .with("241.3", "0x00000400")
                                 .raw(*from_hex("f10c1a00007ed90700000009"))
                                 .raw(*from_hex("f10d1a00007ed9070000000901"))
                                 .signed_with(secret("x"));
  const auto inside = *wire::PacketView::parse(with_others);
  facts.packet = &inside;
  facts.catalogue = &names;
  const auto asked = [&](std::string_view source) {
    std::vector<Mistake> mistakes;
    const auto condition = Condition::parse(source, names, mistakes);
    return condition ? (condition->holds(facts) ? "yes" : "no") : mistakes.front().text;
  };
  EXPECT_EQ(asked("Strait-Berth-Number == 12"), "yes");
  EXPECT_EQ(asked("any Strait-Berth-Number == 13"), "yes");
  EXPECT_EQ(asked("count(Strait-Berth-Number) == 2"), "yes");
  EXPECT_EQ(asked("Response-Length >= 1024"), "yes");
  EXPECT_EQ(asked("Proxy-State-Length present"), "no");
  EXPECT_EQ(asked("Strait-Buoy == 9"), "yes");
  EXPECT_EQ(asked("all Strait-Buoy == 9"), "no");  // the other one's length is that of no integer
  EXPECT_EQ(asked("Strait-Berth present"),
            "Strait-Berth cannot be compared: its value is hidden, or cut into pieces, or it holds others");
}

TEST_F(Conditions, CompareAttributesByTheirTypes) {
  EXPECT_TRUE(holds("NAS-Port-Type == Wireless-802-11"));
  EXPECT_FALSE(holds("NAS-Port-Type == Ethernet"));
  EXPECT_TRUE(holds("NAS-Port-Type in (Ethernet, Wireless-802-11)"));
  EXPECT_TRUE(holds("NAS-Port-Type != Virtual"));
  EXPECT_TRUE(holds("Session-Timeout >= 10m"));
  EXPECT_FALSE(holds("Session-Timeout > 600"));
  EXPECT_TRUE(holds("NAS-IP-Address in 192.0.2.0/24"));
  EXPECT_TRUE(holds("NAS-IP-Address in (198.51.100.0/24, 192.0.2.40)"));
  EXPECT_FALSE(holds("NAS-IP-Address == 192.0.2.41"));
  EXPECT_TRUE(holds(R"(Called-Station-Id ends with ":Deck")"));
  EXPECT_TRUE(holds(R"(Called-Station-Id matches "^02-00-5E.*:[A-Z]")"));
  EXPECT_TRUE(holds(R"(Called-Station-Id contains "53-01")"));
  EXPECT_TRUE(holds(R"(User-Name starts with "sari")"));
}

TEST_F(Conditions, AnAttributeThatIsNotThereMakesNothingTrue) {
  EXPECT_FALSE(holds("NAS-Port == 1"));
  EXPECT_FALSE(holds("NAS-Port != 1"));
  EXPECT_FALSE(holds("NAS-Port present"));
  EXPECT_TRUE(holds("not NAS-Port present"));
  EXPECT_TRUE(holds("User-Name present"));
}

TEST_F(Conditions, RepeatedAttributesAreLookedAtAsIsSaid) {
  EXPECT_TRUE(holds(R"(Filter-Id == "crew")"));  // the first
  EXPECT_FALSE(holds(R"(Filter-Id == "deck")"));
  EXPECT_TRUE(holds(R"(any Filter-Id == "deck")"));
  EXPECT_FALSE(holds(R"(all Filter-Id == "deck")"));
  EXPECT_TRUE(holds(R"(all Filter-Id in ("deck", "crew"))"));
  EXPECT_TRUE(holds("count(Filter-Id) == 2"));
  EXPECT_TRUE(holds("count(NAS-Port) == 0"));
}

TEST_F(Conditions, FactsAreCompared) {
  EXPECT_TRUE(holds(R"(user == "sari" and realm == "reef.example")"));
  EXPECT_TRUE(holds("client == kerapu-deck-2 and listener == access and method in (pap, chap)"));
  EXPECT_TRUE(holds(R"(client.label.place under "reef")"));
  EXPECT_FALSE(holds(R"(client.label.place under "ree")"));
  EXPECT_FALSE(holds("client.label.make present"));
  EXPECT_TRUE(holds(R"(member of "crew")"));
  EXPECT_FALSE(holds(R"(member of "pier")"));
}

TEST_F(Conditions, HoursHaveDaysAndTheirZone) {
  EXPECT_TRUE(holds(R"(time within "Mon-Fri 07:00-19:00")"));
  EXPECT_FALSE(holds(R"(time within "Mon-Fri 09:00-19:00")"));
  EXPECT_TRUE(holds(R"(time within "Mon-Fri 16:00-17:00 +08:00")"));
  EXPECT_TRUE(holds(R"(time within "Mon-Fri 16:00-17:00 Asia/Singapore")"));
  EXPECT_FALSE(holds(R"(time within "08:00-09:00 Asia/Singapore")"));
  EXPECT_TRUE(holds(R"(time within "22:00-09:00")"));
  EXPECT_TRUE(holds("day == Mon and day in (Sun, Mon)"));
  EXPECT_FALSE(holds(R"(time within "Sat,Sun")"));
  facts.now = *parse_time("2026-11-24T01:00:00Z");  // Tuesday night belongs to Monday's hours
  EXPECT_TRUE(holds(R"(time within "Mon 22:00-04:00")"));
  EXPECT_FALSE(holds(R"(time within "Tue 22:00-04:00")"));
}

TEST_F(Conditions, AndBindsTighterThanOrAndNotTighterThanBoth) {
  EXPECT_TRUE(holds("user == sari or user == x and user == y"));
  EXPECT_FALSE(holds("(user == sari or user == x) and user == y"));
  EXPECT_TRUE(holds("not user == x and user == sari"));
  EXPECT_FALSE(holds("not (user == x or user == sari)"));
}

TEST_F(Conditions, TellWhichTestDecidedAndWhatItSaw) {
  std::vector<Mistake> mistakes;
  const auto condition = Condition::parse("user == sari and NAS-Port-Type == Ethernet and user == x",
                                          dictionary::standard(), mistakes);
  std::size_t decided_by = 9;
  EXPECT_FALSE(condition->holds(facts, &decided_by));
  const condition::Test& test = condition->tests()[decided_by];
  EXPECT_EQ(condition->text_of(test), "NAS-Port-Type == Ethernet");
  EXPECT_EQ(actual_text(test, facts), "NAS-Port-Type is Wireless-802-11");
}

struct Wrong {
  const char* source;
  std::size_t at;
  const char* text;
  const char* allowed;
};

class Mistakes : public testing::TestWithParam<Wrong> {};

TEST_P(Mistakes, AreNamedWithTheirPlace) {
  std::vector<Mistake> mistakes;
  EXPECT_FALSE(Condition::parse(GetParam().source, dictionary::standard(), mistakes));
  ASSERT_FALSE(mistakes.empty());
  EXPECT_EQ(mistakes.front().at, GetParam().at);
  EXPECT_THAT(mistakes.front().text, HasSubstr(GetParam().text));
  EXPECT_THAT(mistakes.front().allowed, HasSubstr(GetParam().allowed));
}

INSTANTIATE_TEST_SUITE_P(
    All, Mistakes,
    testing::Values(Wrong{"NAS-Prot-Type == Virtual", 0, "'NAS-Prot-Type' is no attribute",
                          "nearest: 'NAS-Port-Type'"},
                    Wrong{"NAS-Port-Type == Virtul", 17, "nearest: 'Virtual'", ""},
                    Wrong{"NAS-Port-Type = Virtual", 14, "'=' means nothing", "== to compare"},
                    Wrong{"NAS-Port-Type", 13, "the condition ends", "=="},
                    Wrong{"user == sari and", 16, "the condition ends", "an attribute's name"},
                    Wrong{"(user == sari", 13, "where a ')' is missing", ")"},
                    Wrong{"user == sari)", 12, "where the condition could end", "and, or"},
                    Wrong{"user == \"sari", 8, "a quote that does not end", ""},
                    Wrong{"NAS-IP-Address == 2001:db8::1", 18, "another family", ""},
                    Wrong{"NAS-IP-Address < 192.0.2.1", 17, "has no order", "=="},
                    Wrong{"NAS-Port matches \"1\"", 9, "compares text", ""},
                    Wrong{"User-Name matches \"(\"", 18, "no pattern", "RE2"},
                    Wrong{"member of \"crew \"", 10, "'crew ' has a space at an end", "\"crew\""},
                    Wrong{"time within \"Mon-Fry\"", 12, "no hours", "Mon-Fri 07:00-19:00"},
                    Wrong{"time within \"Mon 07:00-1900\"", 12, "no hours", "Mon-Fri 07:00-19:00"},
                    Wrong{"time within \"Mon Asia/Singapor\"", 12,
                          "'Asia/Singapor' is no time zone; allowed: UTC, +08:00, Asia/Singapore; nearest: "
                          "'Asia/Singapore'",
                          "Mon-Fri 07:00-19:00"},
                    Wrong{"day in (Mon, Someday)", 13, "no day", "Mon, Tue"},
                    Wrong{"count(Filter-Id) >= 0", 20, "a count is >= 0 always", ""},
                    Wrong{"User-Password present", 0, "its value is hidden", ""},
                    Wrong{"user > 3", 7, "text has no order", "under"},
                    Wrong{"sessions >= 0", 12, "a count is >= 0 always", ""},
                    Wrong{"sessions matches \"1\"", 9, "a count is a number", ""},
                    Wrong{"sessions == one", 12, "", ""},
                    Wrong{"sessions present", 9, "'present' needs no", ""},
                    Wrong{"any sessions > 1", 4, "has one value", "any and all with attributes"},
                    Wrong{"any user == x", 4, "has one value", "any and all with attributes"}));

TEST_F(Conditions, CountTheSessionsThatAUserHasElsewhere) {
  EXPECT_FALSE(holds("sessions >= 1"));
  facts.sessions = 2;
  EXPECT_TRUE(holds("sessions >= 2 and sessions < 3 and sessions in (1, 2)"));
  EXPECT_FALSE(holds("sessions == 1"));
}

TEST(Condition, TakesTwoHundredComparisonsAndNoMore) {
  std::string text = "user == a";
  for (int i = 1; i < 200; ++i) text += " or user == a";
  std::vector<Mistake> mistakes;
  EXPECT_TRUE(Condition::parse(text, dictionary::standard(), mistakes));
  EXPECT_FALSE(Condition::parse(text + " or user == a", dictionary::standard(), mistakes));
  ASSERT_FALSE(mistakes.empty());
  EXPECT_EQ(mistakes.front().text, "more than 200 comparisons");
}

TEST(Mistakes, NestingAndLengthAreBounded) {
  std::vector<Mistake> mistakes;
  EXPECT_FALSE(Condition::parse(std::string(3000, '('), dictionary::standard(), mistakes));
  EXPECT_THAT(mistakes.back().text, HasSubstr("nested more than"));
  EXPECT_FALSE(Condition::parse(std::string(5000, ' '), dictionary::standard(), mistakes));
  EXPECT_THAT(mistakes.back().text, HasSubstr("5000 octets"));
}

}  // namespace
}  // namespace jembatan::condition
