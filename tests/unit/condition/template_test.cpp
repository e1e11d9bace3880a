#include "condition/template.h"

#include <gtest/gtest.h>

#include "support/packets.h"

namespace jembatan::condition {
namespace {

class Filling : public testing::Test {
 protected:
  std::string filled(std::string_view source, const Captures& captures = {}) {
    std::vector<Mistake> mistakes;
    const auto text = Template::parse(source, dictionary::standard(), mistakes);
    if (!text) return mistakes.front().text;
    const auto packet = *wire::PacketView::parse(octets);
    Facts facts;
    facts.packet = &packet;
    facts.catalogue = &dictionary::standard();
    facts.user = "sari";
    facts.client = "deck";
    facts.labels = &labels;
    std::string missing;
    const auto out = text->fill(facts, captures, missing);
    return out ? *out : "missing: " + missing;
  }
  Octets octets = support::access_request()
                      .user("sari@reef.example")
                      .with("NAS-Port-Type", "Virtual")
                      .with("NAS-IP-Address", "192.0.2.1")
                      .signed_with(support::secret("laut"));
  std::map<std::string, std::string> labels{{"place", "reef/kerapu"}};
};

TEST_F(Filling, PlacesAreFactsLabelsAndAttributes) {
  EXPECT_EQ(filled("{user}-{client.label.place}"), "sari-reef/kerapu");
  EXPECT_EQ(filled("{User-Name} at {NAS-Port-Type}, {NAS-IP-Address}"),
            "sari@reef.example at Virtual, 192.0.2.1");
  EXPECT_EQ(filled("{match.code} of {client}", {{"code", "123456"}}), "123456 of deck");
}

TEST_F(Filling, WhatIsNoPlaceStaysAsItIs) {
  EXPECT_FALSE(Template::has_places("{ Strait-Berth-Number=12 } {} { user }"));
  EXPECT_TRUE(Template::has_places("x {user}"));
  EXPECT_EQ(filled("{ user } {} {{user} {user}"), "{ user } {} {user} sari");
}

TEST_F(Filling, APlaceWithoutValueIsNamed) {
  EXPECT_EQ(filled("{realm}"), "missing: realm");
  EXPECT_EQ(filled("{client.label.pool}"), "missing: client.label.pool");
  EXPECT_EQ(filled("{Class}"), "missing: Class");
  EXPECT_EQ(filled("{match.code}"), "missing: match.code");
}

TEST_F(Filling, UnknownAndHiddenNamesAreMistakes) {
  EXPECT_EQ(filled("{usr}"), "attribute 'usr' is in no dictionary");
  EXPECT_EQ(filled("{User-Nam}"), "attribute 'User-Nam' is in no dictionary; nearest: 'User-Name'");
  EXPECT_EQ(filled("{User-Password}"), "the value of User-Password cannot be read here");
}

}  // namespace
}  // namespace jembatan::condition
