#include "store/code_book.h"

#include <gtest/gtest.h>

#include "support/process.h"

namespace jembatan::store {
namespace {

const CodeBook::Key kIndah{"code", "indah@reef.example"};

CodeBook::Page page(std::uint32_t wrong, bool apart = true) {
  CodeBook::Page out{{}, apart};
  out.page.wrong = wrong;
  return out;
}

class Book : public testing::Test {
 protected:
  std::unique_ptr<CodeBook> open() const {
    auto out = CodeBook::open(folder.path());
    EXPECT_TRUE(out) << out.error().text;
    return out ? std::move(*out) : nullptr;
  }
  support::TemporaryFolder folder;
};

TEST_F(Book, KeepsAPageForEachUserAndFactor) {
  ASSERT_TRUE(open()->write(kIndah, page(3, false)));
  const auto again = open();
  EXPECT_EQ(again->read(kIndah)->page.wrong, 3U);
  EXPECT_FALSE(again->read(kIndah)->apart);
  EXPECT_EQ(again->read({"card", kIndah.user})->page, identity::CodePage{});
  EXPECT_TRUE(again->apart()->empty());
  ASSERT_TRUE(again->write(kIndah, page(4)));
  EXPECT_EQ(again->apart()->size(), 1U);
  EXPECT_TRUE(again->read(kIndah)->apart);
  ASSERT_TRUE(again->remove(kIndah));
  EXPECT_EQ(again->read(kIndah)->page, identity::CodePage{});
}

TEST_F(Book, WhatIsWrittenTogetherIsThereOrNothingOfIt) {
  const auto book = open();
  const Status failed = book->together([&]() -> Status {
    EXPECT_TRUE(book->write(kIndah, page(1)));
    return fail(Errc::io, "the disk is full");
  });
  EXPECT_EQ(failed.error().text, "the disk is full");
  EXPECT_EQ(book->read(kIndah)->page.wrong, 0U);
  EXPECT_TRUE(book->together([&] { return book->write(kIndah, page(2)); }));
  EXPECT_EQ(book->read(kIndah)->page.wrong, 2U);
}

TEST_F(Book, APlaceWithoutAFolderIsAnError) {
  const auto failed = CodeBook::open(folder.path() / "nowhere");
  ASSERT_FALSE(failed);
  EXPECT_EQ(failed.error().code, Errc::io);
}

}  // namespace
}  // namespace jembatan::store
