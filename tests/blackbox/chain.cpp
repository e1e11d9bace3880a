#include "blackbox/chain.h"

#include <gtest/gtest.h>
#include <signal.h>

namespace jembatan::blackbox {

TestNode::TestNode(const std::string& name, const std::string& more, Plan from) : name_(name) {
  const auto at = [](int port) { return "[\"127.0.0.1:" + std::to_string(port) + "\"]"; };
  support::write_file(folder_.path() / "node.toml",
                      "name = \"" + name + "\"\n" +
                          (from == Plan::in_folder ? "plan_folder = \"plan\"\n" : "") +
                          "data_folder = \"data\"\n" + more + "\n[listen]\naccess = " + at(access) +
                          "\naccounting = " + at(accounting) + "\nauthorization = " + at(authorization) +
                          "\n[management]\naddress = \"127.0.0.1:" + std::to_string(management) + "\"\n");
}

void TestNode::plan(const std::string& text, const std::string& name) const {
  support::write_file(folder_.path() / "plan" / (name + ".toml"), text);
}

void TestNode::start() {
  const std::string ready = "node " + name_ + " is up";
  const auto count = [&] {
    std::size_t found = 0;
    const std::string text = log();
    for (std::size_t at = text.find(ready); at != std::string::npos; at = text.find(ready, at + 1)) ++found;
    return found;
  };
  const std::size_t before = count();
  std::vector<std::string> words = words_before;
  words.insert(words.end(), {kServer, "--node", file()});
  process_ = std::make_unique<support::Background>(words, path("log"));
  const bool up = support::eventually([&] { return count() > before || !process_->running(); });
  ASSERT_TRUE(up && process_->running()) << log();
}

int TestNode::stop() {
  constexpr int kSanitizer = 66;  // the thread sanitizer's exit code when it has reported something
  process_->signal(SIGTERM);
  const int out = wait();
  if (out == kSanitizer) ADD_FAILURE() << log();
  return out;
}

void TestNode::kill() {
  process_->signal(SIGKILL);
  (void)process_->wait();
}

bool TestNode::log_has(const std::string& text) const {
  return support::eventually([&] { return log().find(text) != std::string::npos; });
}

nlohmann::json TestNode::ask_node(std::vector<std::string> words) const {
  words.insert(words.end(), {"--node", file(), "--json"});
  const auto finished = client(words);
  EXPECT_EQ(finished.exit_code, 0) << finished.out << finished.error;
  return nlohmann::json::parse(finished.out, nullptr, false);
}

support::Finished client(std::vector<std::string> words, const std::vector<std::string>& environment) {
  words.insert(words.begin(), kClient);
  return support::run(words, environment);
}

std::string client_here(const std::string& secret) {
  return "[[client]]\nname = \"here\"\naddress = \"127.0.0.1\"\nsecret = \"" + secret + "\"\n";
}

std::string group_to(const std::string& group, const TestNode& server, const std::string& secret) {
  return "[[group]]\nname = \"" + group +
         "\"\nanswer_within = \"4s\"\nattempts = 2\n[[group.server]]\nname = \"" + group +
         "-1\"\naddress = \"127.0.0.1\"\naccess_port = " + std::to_string(server.access) +
         "\naccounting_port = " + std::to_string(server.accounting) + "\nsecret = \"" + secret + "\"\n";
}

}  // namespace jembatan::blackbox
