// What has served of one-time codes, for the nodes of a plan, with a real PostgreSQL.
#include "shared/shared_codes.h"

#include <gmock/gmock.h>

#include <future>

#include "unit/shared/scratch_database.h"

namespace jembatan::shared {
namespace {

using identity::CodePage;

class Codes : public Shared {
 protected:
  void SetUp() override {
    Shared::SetUp();
    (void)open("hub-a", "origin-of-hub-a");
    (void)sql("INSERT INTO jembatan.plan VALUES ('hub', 'o', 0), ('lagoon', 'o', 0)");
  }
  static std::unique_ptr<SharedCodes> codes(const std::string& node, const std::string& plan = "hub") {
    auto out = SharedCodes::open({connection(), node, "origin-of-" + node}, plan);
    EXPECT_TRUE(out) << out.error().text;
    return out ? std::move(*out) : nullptr;
  }
  static CodePage read(SharedCodes& at, const SharedCodes::Key& key = kIndah) {
    CodePage out;
    EXPECT_TRUE(at.with_page(key, [&](CodePage& page) { out = page; }));
    return out;
  }
  inline static const SharedCodes::Key kIndah{"code", "indah@reef.example"};
};

TEST_F(Codes, WhatOneNodeNotesTheOthersOfThePlanKnow) {
  const auto one = codes("hub-a");
  const auto other = codes("hub-b");
  const auto elsewhere = codes("hub-c", "lagoon");
  ASSERT_TRUE(one->with_page(kIndah, [](CodePage& page) { page.wrong = 3; }));
  EXPECT_EQ(read(*other).wrong, 3U);
  EXPECT_EQ(read(*other, {"code", "made@reef.example"}), CodePage{});
  EXPECT_EQ(read(*other, {"card", "indah@reef.example"}), CodePage{});
  EXPECT_EQ(read(*elsewhere), CodePage{}) << "another plan";
  EXPECT_TRUE(other->with_page({"\xFF'; DROP", "\xFE"}, [](CodePage& page) { page.wrong = 1; }))
      << "not a text";
}

TEST_F(Codes, ManyAtOnceComeOneBehindTheOther) {
  std::vector<std::future<void>> nodes;
  for (int node = 0; node < 4; ++node) {
    nodes.push_back(std::async(std::launch::async, [node] {
      const auto at = codes("hub-" + std::to_string(node));
      for (int i = 0; i < 50; ++i) EXPECT_TRUE(at->with_page(kIndah, [](CodePage& page) { ++page.wrong; }));
    }));
  }
  for (auto& node : nodes) node.get();
  EXPECT_EQ(read(*codes("hub-a")).wrong, 200U);
}

TEST_F(Codes, APageThatIsOnlyLookedAtIsNotMade) {
  EXPECT_EQ(read(*codes("hub-a")), CodePage{});
  EXPECT_EQ(sql("SELECT count(*) FROM jembatan.code_page"), "0");
}

TEST_F(Codes, APageThatCannotBeReadIsTakenForAnEmptyOne) {
  const auto one = codes("hub-a");
  ASSERT_TRUE(one->with_page(kIndah, [](CodePage& page) { page.wrong = 3; }));
  (void)sql("UPDATE jembatan.code_page SET page = 'x'");
  ASSERT_TRUE(one->with_page(kIndah, [](CodePage& page) { ++page.wrong; }));
  EXPECT_EQ(read(*one).wrong, 1U);
}

TEST_F(Codes, APlanThatIsNotThereIsAnError) {
  const auto one = codes("hub-a", "nowhere");
  EXPECT_FALSE(one->with_page(kIndah, [](CodePage& page) { ++page.wrong; }));
}

}  // namespace
}  // namespace jembatan::shared
