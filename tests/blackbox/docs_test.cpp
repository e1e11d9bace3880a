// The examples of the documentation run as they are written.
#include <gtest/gtest.h>

#include <filesystem>

#include "blackbox/chain.h"
#include "blackbox/examples.h"

namespace jembatan::blackbox {
namespace {

struct Sheet {
  const char* name;
  const char* lab = "";  // options of `lab up`
};

class Page : public testing::TestWithParam<Sheet> {
 protected:
  // In a copy of nothing but what the examples need: the files they name, and an empty folder.
  void SetUp() override {
    namespace fs = std::filesystem;
    fs::create_directories(folder_.path() / "work");
    for (const char* part : {"plans", "rehearsals"})
      fs::copy(fs::path(JEMBATAN_SOURCE_DIR) / part, folder_.path() / part, fs::copy_options::recursive);
    const auto up = run(std::string("jembatan lab up --free-ports ") + GetParam().lab);
    ASSERT_EQ(up.exit_code, 0) << up.error;
  }
  void TearDown() override { (void)run("jembatan lab down"); }

  support::Finished run(const std::string& command) const {
    return support::run(
        {"/bin/sh", "-c", "cd '" + folder_.path().string() + "' && { " + command + "; } 2>&1"},
        {"JEMBATAN_LAB=" + (folder_.path() / "lab").string(),
         "PATH=" + kPrograms + ":" + std::getenv("PATH")});
  }

 private:
  support::TemporaryFolder folder_;
};

TEST_P(Page, RunsAsItIsWritten) {
  const auto page = support::read_file(std::filesystem::path(JEMBATAN_SOURCE_DIR) / "docs" / GetParam().name);
  const auto examples = examples_in(console_blocks(page));
  EXPECT_FALSE(examples.empty());
  for (const Example& example : examples) {
    auto finished = run(example.command);
    // The journal is written behind the answer, and records arrive at the next hop behind it.
    const bool comes_later = example.command.starts_with("jembatan journal") ||
                             example.command.starts_with("jembatan accounting") ||
                             example.command.starts_with("jembatan session show");
    if (comes_later)
      (void)support::eventually(
          [&] { return is_printed(example, finished.out) || (finished = run(example.command), false); });
    EXPECT_EQ(finished.exit_code, example.exit_code) << example.command << "\n" << finished.out;
    EXPECT_TRUE(is_printed(example, finished.out)) << example.command << "\nprinted:\n" << finished.out;
  }
}

INSTANTIATE_TEST_SUITE_P(Docs, Page,
                         testing::Values(Sheet{"plan.md"}, Sheet{"journal.md"}, Sheet{"groups.md"},
                                         Sheet{"rehearsals.md"}, Sheet{"accounting.md"}, Sheet{"sessions.md"},
                                         Sheet{"directories.md", "--directory"},
                                         Sheet{"factors.md", "--factors"}),
                         [](const auto& sheet) {
                           const std::string name = sheet.param.name;
                           return name.substr(0, name.find('.'));
                         });

}  // namespace
}  // namespace jembatan::blackbox
