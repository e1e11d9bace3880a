#include "accounting/ledger_file.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

namespace jembatan::accounting {
namespace {

using namespace std::chrono_literals;
using testing::HasSubstr;

const WallTime kThen{std::chrono::seconds(1'790'000'000)};

std::string whole() {
  const Entry one{7, {1, 2, 3}, {4, 5}, kThen, kThen + 1234ms, kThen, kThen};
  return heading_text({"hub", kThen, kThen + 1h, "pasar"}) + line_of(one) + ending_text(1);
}

std::string problem_of(const std::string& text) {
  const auto read = read_ledger(text);
  return read ? "" : read.error().text;
}

TEST(LedgerFile, ComesBackWithoutIdsAndTimesOfSending) {
  const auto read = read_ledger(whole());
  ASSERT_TRUE(read) << read.error().text;
  EXPECT_EQ(read->heading.node, "hub");
  EXPECT_EQ(read->heading.since, kThen);
  EXPECT_EQ(read->heading.until, kThen + 1h);
  EXPECT_EQ(read->heading.salt, "pasar");
  ASSERT_EQ(read->entries.size(), 1U);
  const Entry& one = read->entries.front();
  EXPECT_EQ(one.id, 0);
  EXPECT_EQ(one.key, (Digest{1, 2, 3}));
  EXPECT_EQ(one.digest, (Digest{4, 5}));
  EXPECT_EQ(one.received, kThen + 1234ms);
  EXPECT_FALSE(one.sent);
}

TEST(LedgerFile, ACutFileIsNotTakenForAWholeOne) {
  const std::string text = whole();
  for (std::size_t size = 0; size + 1 < text.size(); ++size)
    EXPECT_NE(problem_of(text.substr(0, size)), "") << size;
  EXPECT_THAT(problem_of(text.substr(0, text.find("end"))), HasSubstr("its end is missing"));
}

TEST(LedgerFile, ProblemsTellTheirPlace) {
  std::string text = whole();
  EXPECT_THAT(problem_of("records\n"), HasSubstr("1:1: no ledger"));
  EXPECT_THAT(problem_of(text + "more"), HasSubstr("something behind the end"));
  EXPECT_THAT(problem_of(text.replace(text.find("end 1"), 5, "end 2")),
              HasSubstr("it ends after 1 records and says 2"));
  text = whole();
  text[text.find("01020300")] = 'x';
  EXPECT_THAT(problem_of(text), HasSubstr("7:1: no digest"));
  text = whole();
  EXPECT_THAT(problem_of(text.replace(text.find(" 17900"), 6, " 9999999999999999999")),
              HasSubstr("7:67: no time"));
  text = whole();
  EXPECT_THAT(problem_of(text.replace(text.find("salt"), 4, "sugar")), HasSubstr("allowed: node, since"));
}

}  // namespace
}  // namespace jembatan::accounting
