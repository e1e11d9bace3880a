#include "document/mask.h"

#include <gtest/gtest.h>

namespace jembatan::document {
namespace {

TEST(Mask, WhatMayBeASecretIsNotShown) {
  EXPECT_EQ(shown_line("secret = \"laut\""), "secret = ********");
  EXPECT_EQ(shown_line("  pasword = { clear = \"x\" }"), "  pasword = ********");
  EXPECT_EQ(shown_line("x = { note = \"a\", secrte = \"x\", vlan = 3 }"),
            "x = { note = \"a\", secrte = ********");
  EXPECT_EQ(shown_line("\"secret\" = \"laut\""), "\"secret\" = ********");
  EXPECT_EQ(shown_line("reply = { vlan = 3, \"Tunnel-Password[1]\" = \"x\" }"),
            "reply = { vlan = 3, \"Tunnel-Password[1]\" = ********");
  EXPECT_EQ(shown_line("reply = { vlan = 3, \"Door[1]\" = \"x\" }", {"Door[1]"}),
            "reply = { vlan = 3, \"Door[1]\" = ********");
  EXPECT_EQ(shown_line("nt = \"00\""), "nt = ********");
  EXPECT_EQ(shown_line("pass-phrase='x'"), "pass-phrase= ********");
  EXPECT_EQ(shown_line("inside of a text"), "********");
}

TEST(Mask, EverythingElseIs) {
  for (const char* line :
       {"name = \"password\"", "reply = { vlan = 30, Filter-Id = \"crew\" }", "[[client]]",
        "# secret of the sea", "when = 'User-Name == \"secret\"'", "handle = \"group:x\"", ""})
    EXPECT_EQ(shown_line(line), line);
}

TEST(Mask, AnUnknownKeysValueIsHiddenWhereItIsAskedFor) {
  EXPECT_EQ(shown_line("pw = \"x\"", {"pw"}), "pw = ********");
  EXPECT_EQ(shown_line("x = 1, pw = 2", {"pw"}), "x = 1, pw = ********");
}

}  // namespace
}  // namespace jembatan::document
