#include "cli/wrong_words.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

namespace jembatan::cli {
namespace {

using testing::HasSubstr;
using testing::StartsWith;

std::string wrong(const std::vector<std::string>& words) {
  return wrong_words(words).value_or("");
}

TEST(WrongWords, CommandsThatAreThereAreLeftAlone) {
  EXPECT_EQ(wrong({"client", "list"}), "");
  EXPECT_EQ(wrong({"client", "secret", "show", "x", "--node=f"}), "");
  EXPECT_EQ(wrong({"ask", "access", "--password", "--strange", "--user", "x"}), "");
  EXPECT_EQ(wrong({"client", "--help"}), "");
  EXPECT_EQ(wrong({"--version"}), "");
}

TEST(WrongWords, NameThemselvesTheNearestAndTheList) {
  EXPECT_THAT(wrong({"client", "lst"}),
              StartsWith("there is no command 'client lst'; nearest: 'client list'; behind 'client' "
                         "stands one of: "));
  EXPECT_THAT(wrong({"cleint", "list"}),
              StartsWith("there is no command 'cleint'; nearest: 'client'; the first word is one of: "));
  EXPECT_THAT(wrong({"enable", "x"}), HasSubstr("there is 'client enable'"));
  EXPECT_THAT(wrong({"ask", "access", "--usr", "x"}),
              StartsWith("'ask access' has no option '--usr'; nearest: '--user'; it has: --help, "));
}

TEST(WrongWords, HalfACommandIsToldHowItGoesOn) {
  EXPECT_THAT(wrong({}), StartsWith("which command? One of: ask, "));
  EXPECT_THAT(
      wrong({"client", "secret"}),
      StartsWith("'client secret' is half a command: behind it stands one of: list, generate, show, "));
}

}  // namespace
}  // namespace jembatan::cli
