// The examples of the documentation run as they are written.
#include <gtest/gtest.h>

#include <filesystem>
#include <regex>
#include <sstream>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

struct Example {
  std::string command;
  int exit_code = 0;
  std::vector<std::string> output;  // "…" stands for any lines
};

// What stands in the ```console blocks of a page: "$ COMMAND   # exit 1" and what it prints.
std::vector<Example> examples_of(const std::string& page) {
  static const std::regex kExit("(.*?) +# exit ([0-9]+)");
  std::vector<Example> out;
  std::istringstream lines(page);
  bool inside = false;
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with("```")) {
      inside = line == "```console";
    } else if (inside && line.starts_with("$ ")) {
      std::smatch parts;
      const std::string command = line.substr(2);
      const bool fails = std::regex_match(command, parts, kExit);
      out.push_back({fails ? parts[1].str() : command, fails ? std::stoi(parts[2]) : 0, {}});
    } else if (inside && !out.empty()) {
      out.back().output.push_back(line);
    }
  }
  return out;
}

// Each run of lines between two "…" stands in what was printed, in this order.
bool is_printed(const Example& example, const std::string& printed) {
  std::size_t at = 0;
  bool anywhere = false;
  for (const std::string& line : example.output) {
    if (line == "…") {
      anywhere = true;
      continue;
    }
    const std::size_t found = printed.find(line + "\n", at);
    if (found == std::string::npos || (!anywhere && found != at)) return false;
    at = found + line.size() + 1;
    anywhere = false;
  }
  return true;
}

class Page : public testing::TestWithParam<const char*> {
 protected:
  // In a copy of nothing but what the examples need: the files they name, and an empty folder.
  void SetUp() override {
    namespace fs = std::filesystem;
    fs::create_directories(folder_.path() / "work");
    fs::copy(fs::path(JEMBATAN_SOURCE_DIR) / "plans", folder_.path() / "plans", fs::copy_options::recursive);
    const auto up = run("jembatan lab up --free-ports");
    ASSERT_EQ(up.exit_code, 0) << up.error;
  }
  void TearDown() override { (void)run("jembatan lab down"); }

  support::Finished run(const std::string& command) const {
    return support::run(
        {"/bin/sh", "-c", "cd '" + folder_.path().string() + "' && { " + command + "; } 2>&1"},
        {"JEMBATAN_LAB=" + (folder_.path() / "lab").string(),
         "PATH=" + std::string(JEMBATAN_PROGRAMS) + ":" + std::getenv("PATH")});
  }

 private:
  support::TemporaryFolder folder_;
};

TEST_P(Page, RunsAsItIsWritten) {
  const auto examples =
      examples_of(support::read_file(std::filesystem::path(JEMBATAN_SOURCE_DIR) / "docs" / GetParam()));
  EXPECT_FALSE(examples.empty());
  for (const Example& example : examples) {
    const auto finished = run(example.command);
    EXPECT_EQ(finished.exit_code, example.exit_code) << example.command << "\n" << finished.out;
    EXPECT_TRUE(is_printed(example, finished.out)) << example.command << "\nprinted:\n" << finished.out;
  }
}

INSTANTIATE_TEST_SUITE_P(Docs, Page, testing::Values("plan.md"));

}  // namespace
}  // namespace jembatan::blackbox
