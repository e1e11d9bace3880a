#include "cli/judging.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "dictionary/encode.h"

namespace jembatan::cli {
namespace {

using namespace std::chrono_literals;
using rehearsal::Expectation;
using testing::ElementsAre;
using testing::IsEmpty;

Came accepted() {
  Came out;
  out.code = "Access-Accept";
  Octets attributes;
  for (const auto& [name, value] : {std::pair{"Filter-Id", "\"crew\""},
                                    {"Session-Timeout", "43200"},
                                    {"Reply-Message", "\"Aboard as sari.\""}})
    append(attributes, *dictionary::encode(dictionary::standard(), name, value));
  out.lines = dictionary::describe(dictionary::standard(), attributes);
  out.took = 5ms;
  return out;
}

std::vector<std::string> differ(const Expectation& expected, const Came& came = accepted()) {
  const auto out = differences(expected, came, dictionary::standard());
  return out ? *out : std::vector<std::string>{"error: " + out.error().text};
}

TEST(Judging, CodesAreOneOfThose) {
  Expectation expected;
  EXPECT_THAT(differ(expected), IsEmpty());
  expected.codes = {"Access-Reject", "Access-Accept"};
  EXPECT_THAT(differ(expected), IsEmpty());
  expected.codes = {"Access-Reject"};
  EXPECT_THAT(differ(expected), ElementsAre("expected Access-Reject, came Access-Accept"));
  Came none;
  none.problem = "nobody listens there";
  EXPECT_THAT(differ(expected, none),
              ElementsAre("expected Access-Reject, came no answer (nobody listens there)"));
  expected.codes = {"none"};
  EXPECT_THAT(differ(expected, none), IsEmpty());
}

TEST(Judging, AttributesHaveOneOfTheValuesAnyOrAPattern) {
  Expectation expected;
  expected.reply = {
      {"Filter-Id", {"deck", "crew"}, ""}, {"Session-Timeout", {}, ""}, {"Reply-Message", {}, "^Aboard"}};
  EXPECT_THAT(differ(expected), IsEmpty());
  expected.reply = {{"Filter-Id", {"deck", "passenger"}, ""},
                    {"Idle-Timeout", {}, ""},
                    {"Reply-Message", {}, "^aboard$"},
                    {"vlan", {"30"}, ""}};
  EXPECT_THAT(differ(expected),
              ElementsAre("expected Filter-Id deck or passenger, the reply has \"crew\"",
                          "expected Idle-Timeout of any value, the reply has none",
                          "expected Reply-Message matching '^aboard$', the reply has \"Aboard as sari.\"",
                          "expected vlan 30, the reply has none"));
}

TEST(Judging, WhatMustNotBeThere) {
  Expectation expected;
  expected.absent = {"Idle-Timeout"};
  EXPECT_THAT(differ(expected), IsEmpty());
  expected.absent = {"Filter-Id"};
  EXPECT_THAT(differ(expected), ElementsAre("expected no Filter-Id, the reply has \"crew\""));
}

TEST(Judging, UnknownNamesAndPatternsAreErrors) {
  Expectation expected;
  expected.reply = {{"Filter-Idd", {"crew"}, ""}};
  EXPECT_THAT(differ(expected).at(0), testing::HasSubstr("error: "));
  expected.reply = {{"Filter-Id", {}, "(("}};
  EXPECT_THAT(differ(expected).at(0), testing::HasSubstr("error: pattern of Filter-Id"));
}

TEST(Judging, Times) {
  Expectation expected;
  expected.within = Duration(4ms);
  EXPECT_THAT(differ(expected), ElementsAre("the answer took 5.0 ms, expected 4ms at the most"));
  expected.within = Duration(5ms);
  EXPECT_THAT(differ(expected), IsEmpty());
}

TEST(Judging, Shares) {
  Expectation expected;
  expected.shares = {{"homes/a", 75}, {"homes/b", 25}};
  EXPECT_THAT(share_differences(expected, {{"homes/a", 302}, {"homes/b", 98}}), IsEmpty());
  EXPECT_THAT(share_differences(expected, {{"homes/a", 310}, {"homes/b", 90}}),
              ElementsAre("homes/a got 77.5 % of 400 requests, expected 75 % ± 1",
                          "homes/b got 22.5 % of 400 requests, expected 25 % ± 1"));
  EXPECT_THAT(share_differences(expected, {}).size(), 2U);
  EXPECT_THAT(share_differences(expected, {{"homes/a", 75}, {"homes/b", 25}, {"others/c", 500}}), IsEmpty());
}

}  // namespace
}  // namespace jembatan::cli
