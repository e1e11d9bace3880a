// Nodes with one plan: a code serves once at all of them.
#include "blackbox/shared_nodes.h"

namespace jembatan::blackbox {
namespace {

using testing::HasSubstr;

class SharedCodes : public SharedPlan {
 protected:
  void begin(const std::string& lock_after = "3") {
    ASSERT_EQ(apply(one, client_here("laut") + R"(
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
[[factor]]
name = "code"
kind = "code"
lock_after = )" + lock_after +
                             R"(
[[access]]
name = "all"
permit = true
factors = ["code"]
[[enrolment]]
name = "tamu's card"
user = "tamu@reef.example"
factor = "code"
counts = "uses"
secret = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"
)"),
              0);
    other.start();
    ASSERT_EQ(on(one, way_in(other)).exit_code, 0);
    ASSERT_TRUE(has_revision(other, 1)) << other.log();
  }
  static int by_code(const TestNode& node, const std::string& code) {
    return client({"ask", "access", "--to", node.access_to(), "--secret", "laut", "--user",
                   "tamu@reef.example", "--password", "ombak-3", "--answer", code, "--wait", "30s", "--tries",
                   "1"})
        .exit_code;
  }
  static constexpr const char* kShown[] = {"755224", "287082", "359152", "969429", "338314"};
};

TEST_F(SharedCodes, WhatHasServedAtOneServesAtNoOther) {
  begin();
  EXPECT_EQ(by_code(one, kShown[0]), 0);
  EXPECT_EQ(by_code(other, kShown[0]), 1);
  EXPECT_EQ(by_code(other, kShown[1]), 0);
  EXPECT_EQ(by_code(one, kShown[1]), 1);
  EXPECT_EQ(on(one, {"user", "unlock", "tamu@reef.example"}).exit_code, 0);
}

TEST_F(SharedCodes, WrongOnesAreCountedTogetherAndUnlockedTogether) {
  begin();
  EXPECT_EQ(by_code(one, "000000"), 1);
  EXPECT_EQ(by_code(other, "000000"), 1);
  EXPECT_EQ(by_code(one, "000000"), 1);
  EXPECT_EQ(by_code(other, kShown[0]), 1) << "locked";
  EXPECT_THAT(on(other, {"user", "factor", "list"}).out, HasSubstr("locked until"));
  EXPECT_EQ(on(other, {"user", "unlock", "tamu@reef.example"}).exit_code, 0);
  EXPECT_EQ(by_code(one, kShown[0]), 0);
}

TEST_F(SharedCodes, WhileTheDatabaseIsAwayEachKnowsWhatItHasSeenAndThenAllOfIt) {
  begin("20");
  EXPECT_EQ(by_code(one, kShown[0]), 0);
  EXPECT_EQ(by_code(other, kShown[0]), 1) << "so it has seen it";
  database.stop();
  EXPECT_EQ(by_code(one, kShown[1]), 0);
  EXPECT_TRUE(one.log_has("the shared database cannot be asked which have served"));
  EXPECT_EQ(by_code(one, kShown[1]), 1);
  EXPECT_EQ(by_code(other, kShown[0]), 1);
  database.start(kAccess);
  for (const TestNode* node : {&one, &other})
    EXPECT_TRUE(node->log_has("the shared database knows again which have served"));
  EXPECT_EQ(by_code(other, kShown[1]), 1) << "what it did not see itself";
  EXPECT_EQ(by_code(other, kShown[2]), 0);
}

}  // namespace
}  // namespace jembatan::blackbox
