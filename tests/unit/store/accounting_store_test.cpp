#include "store/accounting_store.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <filesystem>

#include "support/packets.h"
#include "support/process.h"

namespace jembatan::store {
namespace {

using namespace std::chrono_literals;
using accounting::Incoming;
using accounting::Query;
using support::accounting_request;
using support::RequestBuilder;

const WallTime kNow{std::chrono::seconds(1'790'000'000)};

class StoreTest : public testing::Test {
 protected:
  void SetUp() override { open(); }
  void open() {
    store.reset();
    auto opened = AccountingStore::open(folder.path());
    ASSERT_TRUE(opened) << opened.error().text;
    store = std::move(*opened);
  }
  static Incoming incoming(const RequestBuilder& request, std::chrono::seconds after = 0s,
                           std::vector<std::string> groups = {}, bool keep = true) {
    const Octets octets = request.signed_with(support::secret("s"));
    auto record =
        accounting::make_record(*wire::PacketView::parse(octets), {"kerapu", *IpAddress::parse("192.0.2.1")},
                                "reef.example", kNow + after);
    return {std::move(*record), keep, std::move(groups)};
  }
  accounting::Kept append(const Incoming& one) {
    const auto kept = store->append(std::span(&one, 1));
    EXPECT_TRUE(kept) << kept.error().text;
    return kept ? kept->at(0) : accounting::Kept{};
  }
  accounting::Kept append(const RequestBuilder& request, std::chrono::seconds after = 0s) {
    return append(incoming(request, after));
  }

  support::TemporaryFolder folder;
  std::unique_ptr<AccountingStore> store;
};

TEST_F(StoreTest, KeepsRecordsAcrossReopening) {
  append(accounting_request("Start", "s1").user("sari@reef.example").with("NAS-Port", "3"));
  open();
  const auto records = store->records({});
  ASSERT_EQ(records->size(), 1U);
  const accounting::Record& record = records->front();
  EXPECT_EQ(record.user, "sari@reef.example");
  EXPECT_EQ(record.status, accounting::StatusType::start);
  EXPECT_EQ(record.received, kNow);
  EXPECT_EQ(record.source.text(), "192.0.2.1");
  EXPECT_EQ(record.attributes,
            incoming(accounting_request("Start", "s1").user("sari@reef.example").with("NAS-Port", "3"))
                .record.attributes);
}

TEST_F(StoreTest, AResendIsKnownAndNotKeptTwice) {
  const auto first = append(accounting_request("Start", "s1", 1).with("Acct-Delay-Time", "0"));
  const auto again = append(accounting_request("Start", "s1", 2).with("Acct-Delay-Time", "9"), 9s);
  EXPECT_FALSE(first.duplicate);
  EXPECT_TRUE(again.duplicate);
  EXPECT_EQ(again.id, first.id);
  EXPECT_EQ(store->records({})->size(), 1U);
}

TEST_F(StoreTest, TheSameRecordMuchLaterIsAnother) {
  append(accounting_request("Accounting-On", "0"));
  EXPECT_FALSE(append(accounting_request("Accounting-On", "0"), 3600s).duplicate);
}

TEST_F(StoreTest, OneTransactionHoldsRecordQueueAndSession) {
  append(incoming(accounting_request("Start", "s1").user("sari"), 0s, {"reef-homes", "archive"}));
  const auto queue = store->undelivered(0, 10);
  ASSERT_EQ(queue->size(), 2U);
  EXPECT_EQ(queue->at(0).group, "reef-homes");
  EXPECT_EQ(queue->at(1).group, "archive");
  EXPECT_EQ(queue->at(0).record.user, "sari");
  EXPECT_EQ(store->undelivered(queue->at(0).place, 10)->size(), 1U);
  EXPECT_EQ(store->sessions({})->size(), 1U);
}

TEST_F(StoreTest, WhatIsDeliveredLeavesTheQueueAndStaysKept) {
  append(incoming(accounting_request("Start", "s1"), 0s, {"reef-homes"}));
  const std::vector<std::int64_t> places{store->undelivered(0, 1)->at(0).place};
  ASSERT_TRUE(store->delivered(places));
  EXPECT_TRUE(store->undelivered(0, 10)->empty());
  EXPECT_EQ(store->records({})->size(), 1U);
  EXPECT_TRUE(store->delivered(places));  // again: nothing happens
}

TEST_F(StoreTest, WhatIsOnlyPassedOnIsGoneWhenAllHaveIt) {
  append(incoming(accounting_request("Start", "s1"), 0s, {"a", "b"}, false));
  const auto queue = store->undelivered(0, 10);
  EXPECT_TRUE(store->sessions({})->empty());
  ASSERT_TRUE(store->delivered(std::vector<std::int64_t>{queue->at(0).place}));
  EXPECT_EQ(store->records({})->size(), 1U);
  ASSERT_TRUE(store->delivered(std::vector<std::int64_t>{queue->at(1).place}));
  EXPECT_TRUE(store->records({})->empty());
}

TEST_F(StoreTest, ASessionFollowsItsRecords) {
  append(accounting_request("Start", "s1").user("sari").with("Framed-IP-Address", "203.0.113.9"));
  append(accounting_request("Interim-Update", "s1").user("sari").with("Acct-Input-Octets", "100"), 60s);
  EXPECT_EQ(store->sessions({.open_only = true})->size(), 1U);
  append(accounting_request("Stop", "s1")
             .user("sari")
             .with("Acct-Input-Octets", "250")
             .with("Acct-Terminate-Cause", "Idle-Timeout"),
         120s);
  EXPECT_TRUE(store->sessions({.open_only = true})->empty());
  const auto sessions = store->sessions({});
  ASSERT_EQ(sessions->size(), 1U);
  EXPECT_EQ(sessions->at(0).started, kNow);
  EXPECT_EQ(sessions->at(0).ended, kNow + 120s);
  EXPECT_EQ(sessions->at(0).input_octets, 250U);
  EXPECT_EQ(sessions->at(0).terminate_cause, 4U);
  EXPECT_EQ(sessions->at(0).framed_ip, "203.0.113.9");
}

TEST_F(StoreTest, ADeviceThatStartsAnewEndsItsSessions) {
  append(accounting_request("Start", "s1").with("NAS-Identifier", "deck-1"));
  append(accounting_request("Start", "s2").with("NAS-Identifier", "deck-2"));
  append(RequestBuilder(wire::Code::accounting_request, 1)
             .with("Acct-Status-Type", "Accounting-On")
             .with("NAS-Identifier", "deck-1"),
         600s);
  const auto open_sessions = store->sessions({.open_only = true});
  ASSERT_EQ(open_sessions->size(), 1U);
  EXPECT_EQ(open_sessions->at(0).nas, "deck-2");
}

TEST_F(StoreTest, SearchesByEachPartNewestFirst) {
  append(accounting_request("Start", "s1").user("sari"));
  append(accounting_request("Start", "s2").user("tamu"));
  append(accounting_request("Stop", "s2").user("tamu"), 5s);
  EXPECT_EQ(store->records({.user = "tamu"})->size(), 2U);
  EXPECT_EQ(store->records({.user = "tamu"})->at(0).status, accounting::StatusType::stop);
  EXPECT_EQ(store->records({.session_id = "s1"})->size(), 1U);
  EXPECT_EQ(store->records({.client = "nobody"})->size(), 0U);
  EXPECT_EQ(store->records({.realm = "reef.example", .most = 2})->size(), 2U);
  EXPECT_EQ(store->records({.user = "x' OR '1'='1"})->size(), 0U);
}

TEST_F(StoreTest, TwoConnectionsSeeTheSame) {
  auto reader = AccountingStore::open(folder.path());
  ASSERT_TRUE(reader);
  append(accounting_request("Start", "s1"));
  EXPECT_EQ((*reader)->records({})->size(), 1U);
}

TEST_F(StoreTest, AFullDiskKeepsNothingOfTheBatch) {
  // SQLite's own limit on pages stands in for the full disk: the error is the same SQLITE_FULL.
  const std::string large(240, 'x');
  RequestBuilder request = accounting_request("Start", "s1");
  for (int i = 0; i < 12; ++i) request.with("Filter-Id", large);
  std::vector<Incoming> batch(50, incoming(request));
  for (std::size_t i = 0; i < batch.size(); ++i) batch[i].record.digest[0] = static_cast<std::uint8_t>(i);
  ASSERT_TRUE(store->limit_pages(20));
  const auto kept = store->append(batch);
  ASSERT_FALSE(kept);
  EXPECT_THAT(kept.error().text,
              testing::MatchesRegex(
                  "store: database or disk is full: make room in folder .*, where .* KiB are free"));
  EXPECT_TRUE(store->records({})->empty());
  EXPECT_TRUE(store->undelivered(0, 10)->empty());
  ASSERT_TRUE(store->limit_pages(1000000));
  EXPECT_TRUE(store->append(batch));
}

TEST(Open, AFolderThatCannotBeUsedIsAClearError) {
  const support::TemporaryFolder folder;
  support::write_file(folder.path() / "file", "");
  const auto store = AccountingStore::open(folder.path() / "file" / "data");
  ASSERT_FALSE(store);
  EXPECT_THAT(store.error().text, testing::HasSubstr("data folder '"));
}

TEST(Open, AFileThatIsNoDatabaseOrNewerIsAClearError) {
  const support::TemporaryFolder folder;
  support::write_file(folder.path() / "accounting.sqlite", std::string(5000, 'x'));
  EXPECT_THAT(AccountingStore::open(folder.path()).error().text,
              testing::HasSubstr("file is not a database"));
  std::filesystem::remove(folder.path() / "accounting.sqlite");
  auto database = Database::open((folder.path() / "accounting.sqlite").string());
  ASSERT_TRUE(database->run("PRAGMA user_version=99"));
  EXPECT_THAT(AccountingStore::open(folder.path()).error().text,
              testing::HasSubstr("made by a newer version (tables 99"));
}

}  // namespace
}  // namespace jembatan::store
