// The order of rules: what a list shows, what is in force, what is exported and what is there after a restart
// is one order, whatever was done to get there (issue 10, 1.1).
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <random>

#include "document/write.h"
#include "unit/store/keeper_on_disk.h"

namespace jembatan::store {
namespace {

using document::text_value;
using revision::Do;
using revision::Edit;
using revision::Keeper;

// Every rule by its name, in the order in which it is looked at.
std::string order_of(const plan::Plan& plan) {
  std::string out;
  for (const auto& route : plan.routes) out += "route " + route.name + " " + route.message + "\n";
  for (const auto& rule : plan.access_rules) out += "access " + rule.name + " " + rule.message + "\n";
  for (const auto& edit : plan.edits) out += "edit " + edit.name + "\n";
  return out;
}

class RuleOrder : public testing::TestWithParam<unsigned>, protected KeeperOnDisk {
 protected:
  std::size_t below(std::size_t bound) { return dice() % bound; }
  std::string some(const std::string& kind) {
    std::vector<std::string> names;
    for (int i = 0; i < 6; ++i) names.push_back(kind + std::to_string(i));
    return names[below(names.size())];
  }

  // Anything that a command can ask for; it may be refused.
  Edit some_edit() {
    static const std::vector<std::string> kKinds{"route", "access", "edit"};
    Edit out;
    out.kind = kKinds[below(kKinds.size())];
    out.name = some(out.kind);
    static constexpr Do kDoings[] = {Do::add, Do::add,    Do::set,  Do::set,
                                     Do::put, Do::remove, Do::move, Do::move};
    out.what = kDoings[below(std::size(kDoings))];
    if (out.what == Do::move) {
      out.first = below(3) == 0;
      if (!out.first && below(2) == 0) out.before = some(out.kind);
    } else if (out.what != Do::remove) {
      const bool edits = out.kind == "edit";
      if (!edits) out.fields.push_back({"message", text_value("m" + std::to_string(below(1000)))});
      if (out.what != Do::set) {
        out.fields.push_back({"when", text_value(R"(User-Name == "x")")});
        if (edits) out.fields.push_back({"at", text_value("received")});
        if (edits) out.fields.push_back({"remove", *document_array("Class")});
        if (out.kind == "route") out.fields.push_back({"handle", text_value("refuse")});
        if (out.kind == "access") out.fields.push_back({"permit", refused()});
      } else if (edits) {
        out.fields.push_back({"when", text_value("User-Name == \"y" + std::to_string(below(100)) + "\"")});
      }
    }
    return out;
  }
  static document::Value refused() {
    document::Value out;
    out.kind = document::Kind::boolean;
    return out;
  }
  static std::optional<document::Value> document_array(const std::string& text) {
    document::Value out;
    out.kind = document::Kind::array;
    out.items.push_back(text_value(text));
    return out;
  }

  std::mt19937 dice{GetParam()};
};

TEST_P(RuleOrder, IsTheSameInForceExportedAndAfterARestart) {
  std::size_t made = 0;
  for (int step = 0; step < 60; ++step) {
    std::vector<Edit> edits;
    for (std::size_t i = 0; i <= below(3); ++i) edits.push_back(some_edit());
    document::Problems problems;
    const auto applied = keeper->change(
        edits, {},
        {{"wulan", revision::Role::operator_, ""}, "", {}, false, false, clock.now().wall, "rules"},
        problems);
    if (!applied) continue;
    ++made;
    document::Problems ignored;
    const auto exported = keeper->files(applied->revision, Keeper::Secrets::kept);
    if (applied->revision == 0) continue;  // nothing has changed yet
    ASSERT_TRUE(exported);
    EXPECT_EQ(order_of(*applied->plan), order_of(*plan::read(*exported, {}, ignored)))
        << "exported, step " << step;
    if (step % 10 == 9) reopen();
    EXPECT_EQ(order_of(*applied->plan), order_of(*keeper->load(ignored)->plan)) << "restarted, step " << step;
  }
  EXPECT_GT(made, 8U);
}

INSTANTIATE_TEST_SUITE_P(Sequences, RuleOrder, testing::Range(1U, 9U));

}  // namespace
}  // namespace jembatan::store
