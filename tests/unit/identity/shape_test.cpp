#include "identity/shape.h"

#include <gtest/gtest.h>

namespace jembatan::identity {
namespace {

std::string_view hint(std::string_view typed, const StoredPassword& kept) {
  return shape_hint(view_of(typed), kept);
}

TEST(ShapeHint, SaysWhatStrikesAboutAWrongPassword) {
  const StoredPassword kept = StoredPassword::clear(Secret("Zamrud-7y"));
  EXPECT_EQ(hint("", kept), "the password is empty");
  EXPECT_EQ(hint("zAMRUD-7Y", kept), "it differs in letter case alone");
  EXPECT_EQ(hint("zamrud-7y", kept), "it differs in letter case alone");
  EXPECT_EQ(hint(" Zamrud-7y", kept), "it has a space too many at an end");
  EXPECT_EQ(hint("Zamrud-7y123456", kept), "it has six digits more than expected");
  EXPECT_EQ(hint("Zamrud-7y12345x", kept), "");
  EXPECT_EQ(hint("Zamrud-7y/:/:/:", kept), "");
  EXPECT_EQ(hint("Yamrud-7z", kept), "it is typed as on another keyboard layout");
  EXPECT_EQ(hint("something else", kept), "");
  EXPECT_EQ(hint("something else ", kept), "");
}

TEST(ShapeHint, OfAnNtHashToo) {  // the hash of "password"
  const StoredPassword kept = *StoredPassword::nt(Secret("8846f7eaee8fb117ad06bdd830b7586c"));
  EXPECT_EQ(hint("PASSWORD", kept), "it differs in letter case alone");
  EXPECT_EQ(hint("password000000", kept), "it has six digits more than expected");
}

TEST(ShapeHint, OfASlowHashOnlyWhatTheWrongOneShows) {
  const StoredPassword kept =
      *StoredPassword::hash(Secret("$6$jembatan$l9sAIiCcOmx6wr0FUMEmaety7rOcqVTnJFU1HU23aRnlWkp/"
                                   "Z6ajAvSu5OAgdt4j5OCr1/.HShCTyZvJ4oJYv1"));
  EXPECT_EQ(hint("x ", kept), "a space stands at an end of it");
  EXPECT_EQ(hint("x", kept), "");
}

}  // namespace
}  // namespace jembatan::identity
