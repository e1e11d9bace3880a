// What comes from outside must not make a line of the log look like another (issue 10, 3.5).
#include <gtest/gtest.h>

#include "base/text.h"

namespace jembatan {
namespace {

TEST(Escaped, MarksThatTurnTheDirectionOfWritingAreShown) {
  EXPECT_EQ(escaped("a\xE2\x80\xAE"
                    "b"),
            "a\\xe2\\x80\\xaeb");                         // U+202E
  EXPECT_EQ(escaped("\xE2\x81\xA6"), "\\xe2\\x81\\xa6");  // U+2066
  EXPECT_EQ(escaped("\xD8\x9C"), "\\xd8\\x9c");           // U+061C
  EXPECT_EQ(escaped("laut biru \xE2\x82\xAC"), "laut biru \xE2\x82\xAC");
  EXPECT_FALSE(is_plain_text(view_of("a\xE2\x80\xAE")));
  EXPECT_EQ(unescaped(escaped("a\xE2\x80\xAE"
                              "b")),
            octets_of("a\xE2\x80\xAE"
                      "b"));
}

TEST(Nearest, IsFoundAmongMany) {
  Nearest near("kerapu-dek-2");
  for (int i = 0; i < 1000; ++i) near.consider("pier-" + std::to_string(i));
  EXPECT_FALSE(near.best());
  near.consider("KERAPU-deck-2");
  near.consider("kerapu-deck-12");
  EXPECT_EQ(near.best(), "KERAPU-deck-2");
  near.consider(std::string(4000, 'x'));
  EXPECT_EQ(near.best(), "KERAPU-deck-2");
}

}  // namespace
}  // namespace jembatan
