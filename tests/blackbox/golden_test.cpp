// Decisions with their trails, as operators read them: tests/golden/decide/NAME has a plan, and trail.txt
// with what `jembatan explain` says of requests. To write them anew: JEMBATAN_WRITE_DOCS=1
// build/release/tests/jembatan_blackbox_tests --gtest_filter='Golden.*'
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>

#include "blackbox/chain.h"
#include "blackbox/examples.h"
#include "support/process.h"

namespace jembatan::blackbox {
namespace {

TEST(Golden, DecisionsLeaveTheseTrails) {
  const std::filesystem::path golden =
      std::filesystem::path(JEMBATAN_SOURCE_DIR) / "tests" / "golden" / "decide";
  int decisions = 0;
  for (const auto& entry : std::filesystem::directory_iterator(golden)) {
    const std::filesystem::path file = entry.path() / "trail.txt";
    std::string written;
    for (const Example& example : examples_in(support::read_file(file))) {
      const auto finished =
          support::run({"/bin/sh", "-c", example.command + " --plan '" + entry.path().string() + "' 2>&1"},
                       {"PATH=" + kPrograms + ":" + std::getenv("PATH")});
      written += "$ " + example.command;
      if (finished.exit_code != 0) written += "   # exit " + std::to_string(finished.exit_code);
      written += "\n" + finished.out;
      ++decisions;
    }
    if (std::getenv("JEMBATAN_WRITE_DOCS") != nullptr) support::write_file(file, written);
    EXPECT_EQ(support::read_file(file), written) << file;
  }
  EXPECT_GE(decisions, 25);
}

}  // namespace
}  // namespace jembatan::blackbox
