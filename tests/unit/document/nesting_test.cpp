#include "document/nesting.h"

#include <gtest/gtest.h>

#include "document/parse.h"

namespace jembatan::document {
namespace {

std::string repeated(const std::string& text, std::size_t times) {
  std::string out;
  for (std::size_t i = 0; i < times; ++i) out += text;
  return out;
}

TEST(Nesting, WhatPlansNeedIsNotTooDeep) {
  EXPECT_FALSE(too_deep(
      "[[client]]\nlabels.place = \"a.b.c.d.e.f.g.h.i.j.k.l.m.n.o.p.q.r\"\nx = [[1], {a = [2.5]}]\n"));
  EXPECT_FALSE(too_deep("a = '''" + repeated("[", 100) + "'''\nb = \"" + repeated("{", 100) + "\" # " +
                        repeated("[", 100)));
}

TEST(Nesting, BracketsAndKeysBeyondTheLimitAreNamedBeforeTheyAreRead) {
  Problems problems;
  EXPECT_FALSE(parse("plan.toml", "x = 1\na = " + repeated("[", 150000), problems));
  EXPECT_FALSE(parse("plan.toml", repeated("a.", 100000) + "a = 1", problems));
  EXPECT_FALSE(parse("plan.toml", "[" + repeated("a.", 100000) + "a]", problems));
  EXPECT_FALSE(parse("plan.toml", "a = " + repeated("{ a = ", 100000), problems));
  ASSERT_EQ(problems.list().size(), 4U);
  EXPECT_EQ(problems.list()[0].text, "nested more than 32 deep");
  EXPECT_EQ(problems.list()[0].at.line, 2U);
  EXPECT_EQ(problems.list()[0].at.column, 37U);
  EXPECT_EQ(problems.list()[1].text, "a key of more than 16 parts");
  EXPECT_EQ(problems.list()[2].text, "a key of more than 16 parts");
  EXPECT_EQ(problems.list()[3].text, "nested more than 32 deep");
}

TEST(Nesting, StringsThatDoNotEndAreLeftToTheReader) {
  for (const char* text : {"a = \"", "a = '''x", "a = \"\\", "a = 'x\nb = [", "\"", ""})
    EXPECT_FALSE(too_deep(text)) << text;
}

}  // namespace
}  // namespace jembatan::document
