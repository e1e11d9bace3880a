#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/octets.h"
#include "document/parse.h"
#include "rehearsal/case.h"

namespace jembatan::rehearsal {
namespace {

using namespace std::chrono_literals;
using testing::ElementsAre;
using testing::HasSubstr;

struct Read {
  std::optional<Rehearsal> rehearsal;
  std::string problems;
};

Read read_text(const std::string& text) {
  document::Problems problems;
  const auto file = document::parse("r.toml", text, problems);
  Read out;
  if (file) out.rehearsal = read(*file, problems);
  out.problems = problems.text();
  return out;
}

std::string problems_of_step(const std::string& step) {
  return read_text("[[case]]\nname = \"a\"\n[[case.step]]\n" + step).problems;
}

TEST(ReadRehearsal, EveryPartOfAStep) {
  const auto read = read_text(R"(
about = "all of it"
[[case]]
name = "one"
[[case.step]]
access = "hub"
client = "kerapu"
from = "127.0.0.9"
user = "sari-{n}@reef.example"
password = "laut-biru-7"
method = "chap"
send = { NAS-Port-Type = "Virtual", NAS-Port = 7 }
answers = ["1234", "5678"]
sign = false
times = 20
together = 4
wait = "500ms"
tries = 2
[case.step.expect]
code = ["Access-Accept", "Access-Challenge"]
reply = { vlan = 30, Filter-Id = ["crew", "deck"], Session-Timeout = "*" }
absent = ["Idle-Timeout"]
matching = { Reply-Message = "^Aboard" }
server = "homes/reef-1"
within = "2s"
at_least = 99.5
shares = { "homes/reef-1" = 75, "homes/reef-2" = 25.0 }
tolerance = 2
[[case.step]]
fault = "reef-1 delay 800ms"
[[case.step]]
until = { node = "hub", server = "homes/reef-1", is = "down", within = "3s" }
[[case.step]]
accounting = "edge"
record = "Stop"
session = "4711"
expect = { records = { edge = 1, reef-2 = 0 }, online = { edge = 3 }, records_within = "1s" }
[[case.step]]
status = "edge"
)");
  ASSERT_TRUE(read.rehearsal) << read.problems;
  EXPECT_EQ(read.rehearsal->about, "all of it");
  const Case& one = read.rehearsal->cases.at(0);
  EXPECT_EQ(one.file, "r.toml");
  EXPECT_EQ(one.at.line, 3U);
  ASSERT_EQ(one.steps.size(), 5U);
  const Step& access = one.steps[0];
  EXPECT_EQ(access.kind, Step::Kind::access);
  EXPECT_EQ(access.node, "hub");
  EXPECT_EQ(access.client, "kerapu");
  EXPECT_EQ(access.from, "127.0.0.9");
  EXPECT_EQ(text_of(access.password->reveal()), "laut-biru-7");
  EXPECT_EQ(access.method, "chap");
  EXPECT_THAT(access.send, testing::UnorderedElementsAre(testing::Pair("NAS-Port-Type", "Virtual"),
                                                         testing::Pair("NAS-Port", "7")));
  EXPECT_THAT(access.answers, ElementsAre("1234", "5678"));
  EXPECT_FALSE(access.sign);
  EXPECT_EQ(access.times, 20U);
  EXPECT_EQ(access.together, 4U);
  EXPECT_EQ(access.wait, 500ms);
  EXPECT_EQ(access.tries, 2);
  const Expectation& expect = access.expect;
  EXPECT_THAT(expect.codes, ElementsAre("Access-Accept", "Access-Challenge"));
  ASSERT_EQ(expect.reply.size(), 4U);
  EXPECT_THAT(expect.reply[0].any_of, ElementsAre("30"));
  EXPECT_THAT(expect.reply[1].any_of, ElementsAre("crew", "deck"));
  EXPECT_TRUE(expect.reply[2].any_of.empty());
  EXPECT_EQ(expect.reply[3].matching, "^Aboard");
  EXPECT_THAT(expect.absent, ElementsAre("Idle-Timeout"));
  EXPECT_EQ(expect.server, "homes/reef-1");
  EXPECT_EQ(expect.within, Duration(2s));
  EXPECT_EQ(expect.at_least, 99.5);
  EXPECT_EQ(expect.shares.at("homes/reef-2"), 25.0);
  EXPECT_EQ(expect.tolerance, 2);
  EXPECT_EQ(one.steps[1].kind, Step::Kind::fault);
  EXPECT_EQ(one.steps[1].node, "reef-1");
  EXPECT_EQ(one.steps[1].fault, "delay 800ms");
  EXPECT_EQ(one.steps[2].kind, Step::Kind::until);
  EXPECT_EQ(one.steps[2].state, "down");
  EXPECT_EQ(one.steps[2].within, 3s);
  EXPECT_EQ(one.steps[3].record, "Stop");
  EXPECT_EQ(one.steps[3].expect.records.at("reef-2"), 0U);
  EXPECT_EQ(one.steps[3].expect.online.at("edge"), 3U);
  EXPECT_EQ(one.steps[4].kind, Step::Kind::status);
}

TEST(ReadRehearsal, MistakesAreNamedWithTheirPlaceAndWhatIsAllowed) {
  EXPECT_THAT(problems_of_step("acces = \"hub\""), HasSubstr("r.toml:4:1: error:"));
  EXPECT_THAT(problems_of_step("acces = \"hub\""), HasSubstr("access"));
  EXPECT_THAT(problems_of_step("user = \"x\""), HasSubstr("the step does nothing"));
  EXPECT_THAT(problems_of_step("access = \"hub\"\nstatus = \"hub\""), HasSubstr("does something already"));
  EXPECT_THAT(problems_of_step("fault = \"reef-1\""), HasSubstr("NODE FAULT in a step of its own"));
  EXPECT_THAT(problems_of_step("until = { node = \"hub\" }"), HasSubstr("'until' is not whole"));
  EXPECT_THAT(problems_of_step("access = \"hub\"\nexpect = { code = \"Accept\" }"),
              HasSubstr("'code' is 'Accept'"));
  EXPECT_THAT(problems_of_step("access = \"hub\"\nexpect = { server = \"reef-1\" }"),
              HasSubstr("GROUP/SERVER"));
  EXPECT_THAT(problems_of_step("access = \"hub\"\nexpect = { shares = { \"a/b\" = 101 } }"),
              HasSubstr("0 to 100"));
  EXPECT_THAT(problems_of_step("access = \"hub\"\ntimes = 0"), HasSubstr("1 to 100000"));
  EXPECT_THAT(read_text("[[case]]\nname = \"a\"\n").problems, HasSubstr("step"));
}

TEST(ReadRehearsal, NoProblemShowsAPassword) {
  const std::string problems = problems_of_step("access = \"hub\"\npassword = [\"geheim-1\"]\n");
  EXPECT_THAT(problems, HasSubstr("password"));
  EXPECT_THAT(problems, testing::Not(HasSubstr("geheim")));
}

}  // namespace
}  // namespace jembatan::rehearsal
