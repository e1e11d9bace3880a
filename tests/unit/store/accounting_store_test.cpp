#include "store/accounting_store.h"

#include <SQLiteCpp/Transaction.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "accounting/sessions.h"
#include "store/inbox.h"
#include "store_fixture.h"

namespace jembatan::store {
namespace {

using namespace std::chrono_literals;
using accounting::Delivered;
using accounting::EndedBy;
using accounting::Incoming;
using accounting::Query;
using support::accounting_request;
using support::RequestBuilder;
using testing::ElementsAre;

TEST_F(StoreTest, KeepsRecordsAcrossReopening) {
  const Incoming one = incoming(start().with("NAS-Port", "3"));
  fill(one);
  open();
  const auto records = store->records({});
  ASSERT_EQ(records->size(), 1U);
  const accounting::Record& record = records->front();
  EXPECT_EQ(record.user, "sari@reef.example");
  EXPECT_EQ(record.status, accounting::StatusType::start);
  EXPECT_EQ(record.received, kNow);
  EXPECT_EQ(record.source.text(), "192.0.2.1");
  EXPECT_EQ(record.realm, "reef.example");
  EXPECT_EQ(record.port, "3");
  EXPECT_EQ(record.attributes, one.arrival.attributes);
  EXPECT_EQ(record.key, one.arrival.key);
  EXPECT_EQ(record.digest, one.arrival.digest);
}

TEST_F(StoreTest, WhatItHasIsPassedOverWhenTheInboxIsReadAgain) {
  std::vector<Incoming> records{incoming(start(), 0s, {"reef-homes"}), incoming(stop(), 60s, {"reef-homes"})};
  ASSERT_TRUE(store->fill(records));
  deliver(1, "reef-homes");
  open();
  ASSERT_TRUE(store->fill(records));
  records.push_back(incoming(start("s2"), 90s, {"reef-homes"}));
  ASSERT_TRUE(store->fill(records));
  EXPECT_EQ(store->records({})->size(), 3U);
  EXPECT_EQ(waiting("reef-homes").size(), 2U);
  EXPECT_EQ(sessions().size(), 2U);
  EXPECT_EQ(*store->last(), 3);
}

// Stopped between the two: the record is in its day's file, and nothing that hangs on it was done.
TEST_F(StoreTest, WhatHangsOnARecordIsDoneWhenOnlyItsDayWasWritten) {
  const Incoming one = incoming(start(), 0s, {"reef-homes"});
  {
    DayFile day(folder.path() / "records" / "2026-09-21.sqlite", DayFile::Access::write);
    day.add(accounting::taken_apart(one.arrival), true, 1);
  }
  EXPECT_EQ(*store->last(), 1);
  fill(one);
  EXPECT_EQ(store->records({})->size(), 1U);
  EXPECT_EQ(waiting("reef-homes").size(), 1U);
  EXPECT_EQ(sessions().size(), 1U);
}

TEST_F(StoreTest, FindsTheRecordOfTheSameEventOnOtherDays) {
  fill(incoming(start().with("Event-Timestamp", "1790000000")));
  for (int day = 1; day < 10; ++day) fill(incoming(start("x"), std::chrono::hours(24 * day)));
  const Incoming again = incoming(start().with("Event-Timestamp", "1790000000"), 9 * 24h);
  EXPECT_EQ(*store->find(again.arrival), 1);
  EXPECT_EQ(*store->find(incoming(start("s3"), 9 * 24h).arrival), std::nullopt);
}

TEST_F(StoreTest, ADeviceWithoutAClockIsLookedForAmongTheLastDaysAlone) {
  fill(incoming(start().with("Event-Timestamp", "12")));
  EXPECT_EQ(*store->find(incoming(start().with("Event-Timestamp", "12"), 4s).arrival), 1);
  fill(incoming(start("x"), 72h));
  EXPECT_EQ(*store->find(incoming(start().with("Event-Timestamp", "12"), 72h).arrival), std::nullopt);
}

TEST_F(StoreTest, AResendThatNobodyKnewAnyMoreIsNotKeptTwice) {
  fill(start());
  fill(incoming(start().with("Acct-Delay-Time", "9"), 9s, {"reef-homes"}));
  EXPECT_EQ(store->records({})->size(), 1U);
  EXPECT_TRUE(waiting("reef-homes").empty());
  EXPECT_EQ(*store->last(), 2);
}

TEST_F(StoreTest, EachDayHasAFile) {
  fill(start("s1"));
  fill(start("s2"), 24h);
  EXPECT_TRUE(std::filesystem::exists(folder.path() / "records" / "2026-09-21.sqlite"));
  EXPECT_TRUE(std::filesystem::exists(folder.path() / "records" / "2026-09-22.sqlite"));
  EXPECT_EQ(store->records({})->size(), 2U);
  EXPECT_EQ(store->records({.until = kNow + 12h})->size(), 1U);
  EXPECT_EQ(store->records({.since = kNow + 12h})->at(0).session_id, "s2");
  std::filesystem::remove(folder.path() / "records" / "2026-09-21.sqlite");
  open();
  EXPECT_EQ(store->records({})->size(), 1U);
}

TEST_F(StoreTest, EachGroupHasAQueue) {
  fill(incoming(start("s1"), 0s, {"reef-homes", "archive"}));
  fill(incoming(start("s2"), 1s, {"reef-homes"}));
  EXPECT_THAT(*store->waiting_groups(), ElementsAre("archive", "reef-homes"));
  ASSERT_EQ(waiting("reef-homes").size(), 2U);
  EXPECT_EQ(accounting::taken_apart(waiting("reef-homes")[1].arrival).session_id, "s2");
  EXPECT_EQ(store->undelivered("reef-homes", 1, 10)->size(), 1U);
  EXPECT_EQ(store->undelivered("reef-homes", 0, 1)->size(), 1U);
  const auto depth = *store->queue();
  ASSERT_EQ(depth.size(), 2U);
  EXPECT_EQ(depth[1].records, 2U);
  EXPECT_EQ(depth[1].oldest, kNow);
}

TEST_F(StoreTest, WhatIsDeliveredLeavesTheQueueAndItsEvidenceStays) {
  const std::int64_t id = fill(incoming(start(), 0s, {"reef-homes"}));
  deliver(id, "reef-homes");
  EXPECT_TRUE(waiting("reef-homes").empty());
  EXPECT_EQ(store->records({})->size(), 1U);
  deliver(id, "reef-homes");  // again: nothing happens
  const auto evidence = store->whereabouts(id)->delivered;
  ASSERT_EQ(evidence.size(), 1U);
  EXPECT_EQ(evidence[0].group, "reef-homes");
  EXPECT_EQ(evidence[0].server, "reef-1");
  EXPECT_EQ(evidence[0].digest, accounting::Digest{7});
  EXPECT_EQ(evidence[0].acknowledged, kNow + 9ms);
}

TEST_F(StoreTest, WhatIsOnlyPassedOnIsGoneWhenAllHaveItButForItsDigest) {
  const std::int64_t id = fill(incoming(start(), 0s, {"a", "b"}, false));
  EXPECT_TRUE(sessions().empty());
  deliver(id, "a");
  deliver(id, "a");
  ASSERT_EQ(store->records({})->size(), 1U);
  EXPECT_EQ(waiting("b").at(0).arrival.attributes, store->records({})->at(0).attributes);
  deliver(id, "b");
  EXPECT_TRUE(store->records({})->empty());
  EXPECT_EQ(store->whereabouts(id)->delivered.size(), 2U);
  ASSERT_EQ(store->records({.id = id})->size(), 1U);
  EXPECT_EQ(store->records({.id = id})->at(0).user, "");
  EXPECT_EQ(store->records({.id = id})->at(0).digest, incoming(start()).arrival.digest);
  EXPECT_EQ(*store->find(incoming(start()).arrival), id);  // a resend is known all the same
}

TEST_F(StoreTest, WhatIsSetAsideIsNotOfferedAgainUntilItIsSentElsewhere) {
  fill(incoming(start("s1"), 0s, {"reef-homes"}));
  fill(incoming(start("s2"), 0s, {"reef-homes"}));
  const accounting::SetAside aside{1, "reef-homes", "too long"};
  ASSERT_TRUE(store->set_aside(std::span(&aside, 1)));
  EXPECT_EQ(waiting("reef-homes").size(), 1U);
  EXPECT_EQ(store->queue()->at(0).set_aside, 1U);
  EXPECT_EQ(store->queue()->at(0).why, "too long");
  EXPECT_EQ(*store->redirect("reef-homes", "archive"), 2U);
  EXPECT_EQ(waiting("archive").size(), 2U);
  EXPECT_EQ(*store->redirect("archive", std::nullopt), 2U);
  EXPECT_TRUE(store->queue()->empty());
  EXPECT_EQ(*store->redirect("nobody", std::nullopt), 0U);
}

TEST_F(StoreTest, WhoHasARecordAlreadyIsNotSentItTwiceByARedirection) {
  fill(incoming(start(), 0s, {"reef-homes", "archive"}));
  EXPECT_EQ(*store->redirect("reef-homes", "archive"), 1U);
  EXPECT_TRUE(waiting("reef-homes").empty());
  EXPECT_EQ(waiting("archive").size(), 1U);
}

TEST_F(StoreTest, ASessionFollowsItsRecords) {
  fill(start().with("Framed-IP-Address", "203.0.113.9"));
  fill(interim().with("Acct-Input-Octets", "100"), 60s);
  EXPECT_EQ(sessions({.open_only = true}).size(), 1U);
  fill(stop().with("Acct-Input-Octets", "250").with("Acct-Terminate-Cause", "Idle-Timeout"), 120s);
  EXPECT_TRUE(sessions({.open_only = true}).empty());
  ASSERT_EQ(sessions().size(), 1U);
  const auto session = sessions()[0];
  EXPECT_EQ(session.id, 1);
  EXPECT_EQ(session.started, kNow);
  EXPECT_EQ(session.ended, kNow + 120s);
  EXPECT_EQ(session.ended_by, EndedBy::stop);
  EXPECT_EQ(session.input_octets, 250U);
  EXPECT_EQ(session.terminate_cause, 4U);
  EXPECT_EQ(session.framed_ip, "203.0.113.9");
}

TEST_F(StoreTest, TwoSessionsWithOneNumberStayTwo) {
  fill(start().with("NAS-Port", "1"));
  fill(start().with("NAS-Port", "2"));
  fill(stop().with("NAS-Port", "1").with("Acct-Input-Octets", "5"), 60s);
  ASSERT_EQ(sessions().size(), 2U);
  ASSERT_EQ(sessions({.open_only = true}).size(), 1U);
  EXPECT_EQ(sessions({.open_only = true})[0].port, "2");
}

TEST_F(StoreTest, ADeviceThatStartsAnewEndsItsSessions) {
  fill(start("s1"));
  fill(accounting_request("Start", "s2").with("NAS-Identifier", "deck-2"));
  fill(RequestBuilder(wire::Code::accounting_request, 1)
           .with("Acct-Status-Type", "Accounting-On")
           .with("NAS-Identifier", "deck-1"),
       600s);
  ASSERT_EQ(sessions({.open_only = true}).size(), 1U);
  EXPECT_EQ(sessions({.open_only = true})[0].nas, "deck-2");
  EXPECT_EQ(sessions({.nas = "deck-1"})[0].ended_by, EndedBy::device);
}

TEST_F(StoreTest, ASessionWithoutAStopIsLostAndComesBackWhenItIsHeardOf) {
  fill(start());
  fill(interim().with("Acct-Session-Time", "600"), 600s);
  ASSERT_TRUE(store->tidy(kNow + 40min - 1s, {}));
  EXPECT_EQ(sessions({.open_only = true}).size(), 1U);
  ASSERT_TRUE(store->tidy(kNow + 40min, {}));
  ASSERT_EQ(sessions({.lost_only = true}).size(), 1U);
  EXPECT_EQ(sessions()[0].ended, kNow + 600s);
  fill(interim().with("Acct-Session-Time", "3000"), 50min);
  ASSERT_EQ(sessions({.open_only = true}).size(), 1U);
  EXPECT_EQ(sessions()[0].started, kNow);
}

TEST_F(StoreTest, WhatHasEndedIsPutAwayAndComesBackForARecordThatComesLate) {
  fill(start("s1"));
  fill(stop("s1").with("Acct-Input-Octets", "5").with("Acct-Session-Time", "60"), 60s);
  fill(start("s2"), 70s);
  ASSERT_TRUE(store->tidy(kNow + 2h, {}));
  SQLite::Database main = open_to_read(folder.path() / "accounting.sqlite");
  EXPECT_EQ(number_of(main, "SELECT count(*) FROM session"), 1);
  EXPECT_EQ(sessions().size(), 2U);
  EXPECT_EQ(sessions({.session_id = "s1"})[0].input_octets, 5U);
  fill(interim("s1").with("Acct-Delay-Time", "10770").with("Acct-Input-Octets", "4"), 3h);
  EXPECT_EQ(sessions().size(), 2U);
  ASSERT_TRUE(store->tidy(kNow + 6h, {}));
  ASSERT_EQ(sessions({.session_id = "s1"}).size(), 1U);
  EXPECT_EQ(sessions({.session_id = "s1"})[0].input_octets, 5U);
}

TEST_F(StoreTest, DaysThatAreTooOldOrTooMuchAreDroppedUnlessSomethingOfThemWaits) {
  fill(incoming(start("s0"), 0s, {"reef-homes"}));
  for (int day = 1; day < 6; ++day) fill(start(std::to_string(day)), std::chrono::hours(24 * day));
  const WallTime now = kNow + 5 * 24h;
  accounting::Housekeeping how;
  EXPECT_EQ(*store->tidy(now, how), "");  // for ever
  how.keep = 72h;
  EXPECT_EQ(*store->tidy(now, how), "");  // it waits
  deliver(1, "reef-homes");
  EXPECT_EQ(*store->tidy(now, how), "2026-09-21");
  EXPECT_EQ(*store->tidy(now, how), "2026-09-22");
  EXPECT_EQ(*store->tidy(now, how), "");
  EXPECT_EQ(store->stored()->size(), 4U);
  EXPECT_EQ(store->stored()->at(0).date, "2026-09-26");
  EXPECT_EQ(store->stored()->at(0).records, 1U);
  how = {};
  how.most_octets = 1;
  EXPECT_EQ(*store->tidy(now, how), "2026-09-23");
  EXPECT_EQ(*store->tidy(now, how), "2026-09-24");
  EXPECT_EQ(*store->tidy(now, how), "");  // the last two days stay
}

TEST_F(StoreTest, TheNewestAreReadForWhatIsKnownAtTheStart) {
  for (int i = 0; i < 5; ++i) fill(start(std::to_string(i)), std::chrono::hours(12 * i));
  const auto newest = *store->newest(3);
  ASSERT_EQ(newest.size(), 3U);
  EXPECT_EQ(newest[0].id, 3);
  EXPECT_EQ(newest[2].id, 5);
  EXPECT_EQ(newest[0].client, "kerapu");
}

// What a node of version 1 has left behind: one file.
TEST(Migration, AStoreOfVersion1BecomesOneOfToday) {
  const support::TemporaryFolder folder;
  {
    SQLite::Database old = open_to_write(folder.path() / "accounting.sqlite");
    old.exec(R"(
CREATE TABLE record (
  id INTEGER PRIMARY KEY,
  received_ms INTEGER NOT NULL, event_ms INTEGER NOT NULL,
  client TEXT NOT NULL, source TEXT NOT NULL, nas TEXT NOT NULL,
  status INTEGER NOT NULL, session_id TEXT NOT NULL,
  user TEXT NOT NULL, realm TEXT NOT NULL, calling_station TEXT NOT NULL, framed_ip TEXT NOT NULL,
  input_octets INTEGER NOT NULL, output_octets INTEGER NOT NULL,
  session_time_s INTEGER NOT NULL, terminate_cause INTEGER NOT NULL,
  attributes BLOB NOT NULL, digest BLOB NOT NULL,
  keep INTEGER NOT NULL);
CREATE INDEX record_by_digest ON record (digest);
CREATE INDEX record_by_user ON record (user, id);
CREATE INDEX record_by_session ON record (session_id, id);
CREATE TABLE session (
  id INTEGER PRIMARY KEY,
  client TEXT NOT NULL, nas TEXT NOT NULL, session_id TEXT NOT NULL,
  user TEXT NOT NULL, realm TEXT NOT NULL, calling_station TEXT NOT NULL, framed_ip TEXT NOT NULL,
  started_ms INTEGER NOT NULL, updated_ms INTEGER NOT NULL, ended_ms INTEGER,
  session_time_s INTEGER NOT NULL, input_octets INTEGER NOT NULL, output_octets INTEGER NOT NULL,
  terminate_cause INTEGER NOT NULL);
CREATE INDEX session_by_key ON session (session_id, nas, client, id);
CREATE INDEX session_open ON session (nas, client) WHERE ended_ms IS NULL;
CREATE TABLE outbox (
  place INTEGER PRIMARY KEY AUTOINCREMENT,
  record INTEGER NOT NULL REFERENCES record (id),
  to_group TEXT NOT NULL);
CREATE INDEX outbox_by_record ON outbox (record);
PRAGMA user_version = 1;
INSERT INTO record VALUES (1, 1790000000000, 1790000000000, 'kerapu', '192.0.2.1', 'kerapu', 1, 's1', 'sari', '', '', '',
  0, 0, 0, 0, x'280600000001' || x'2C047331' || x'010673617269', x'00', 1);
INSERT INTO record VALUES (2, 1790086400000, 1790086400000, 'kerapu', '192.0.2.1', 'kerapu', 2, 's1', 'sari', '', '', '',
  0, 0, 0, 0, x'280600000002' || x'2C047331' || x'010673617269', x'00', 0);
INSERT INTO session VALUES (1, 'kerapu', 'kerapu', 's1', 'sari', '', '', '', 1790000000000, 1790000000000, NULL, 0, 0, 0, 0);
INSERT INTO outbox VALUES (4, 1, 'reef-homes'), (5, 2, 'reef-homes'), (6, 2, 'archive');
)");
  }
  for (int i = 0; i < 2; ++i) {  // opened again, it is as it was
    auto store = AccountingStore::open(folder.path());
    ASSERT_TRUE(store) << store.error().text;
    const auto records = (*store)->records({});
    ASSERT_EQ(records->size(), 2U);
    EXPECT_EQ(records->at(0).id, 2);
    EXPECT_EQ(records->at(0).session_id, "s1");
    EXPECT_EQ(records->at(1).user, "sari");
    EXPECT_EQ((*store)->undelivered("reef-homes", 0, 10)->size(), 2U);
    EXPECT_EQ((*store)->undelivered("archive", 0, 10)->at(0).arrival.attributes, records->at(0).attributes);
    EXPECT_EQ((*store)->sessions({.open_only = true})->size(), 1U);
    EXPECT_EQ(*(*store)->last(), 2);
    EXPECT_FALSE((*store)->whereabouts(2)->has_evidence);
    EXPECT_TRUE((*store)->whereabouts(3)->has_evidence);
    const Octets again = accounting_request("Start", "s1", 8).user("sari").signed_with(support::secret("s"));
    const auto resent = accounting::arrival_of(*wire::PacketView::parse(again),
                                               {"kerapu", *IpAddress::parse("192.0.2.1")}, "", kNow + 9s);
    EXPECT_EQ(*(*store)->find(*resent), 1);  // its digest was of another kind
  }
}

// What another node recorded: into the sessions, once, and into nothing else.
TEST_F(StoreTest, ASessionGoesOnAtAnotherNode) {
  const auto record = [&](const RequestBuilder& request, std::int64_t number, std::chrono::seconds after) {
    auto arrival = incoming(request, after).arrival;
    arrival.id = number;
    return accounting::taken_apart(std::move(arrival));
  };
  std::vector<accounting::Session> told;
  store->watch([&](const accounting::Session& session) { told.push_back(session); });
  std::vector<accounting::Record> heard{record(start(), 7, 0s)};
  ASSERT_TRUE(store->hear(2, heard));
  ASSERT_TRUE(store->hear(2, heard)) << "again: nothing";
  EXPECT_EQ(told.size(), 1U);
  EXPECT_EQ(*store->heard(2), 7);
  EXPECT_EQ(*store->heard(3), 0);
  ASSERT_EQ(sessions().size(), 1U);
  EXPECT_EQ(sessions()[0].id, accounting::id_elsewhere(2, 7));
  EXPECT_TRUE(store->records({})->empty());
  EXPECT_EQ(*store->last(), 0);
  EXPECT_TRUE(waiting("reef").empty());

  fill(interim().with("Acct-Input-Octets", "500"), 60s);  // the device asks this node by now
  ASSERT_EQ(sessions().size(), 1U);
  EXPECT_EQ(sessions()[0].input_octets, 500U);
  open();
  ASSERT_TRUE(store->hear(2, std::vector{record(stop(), 9, 120s)}));
  ASSERT_EQ(sessions().size(), 1U);
  EXPECT_TRUE(sessions()[0].ended);

  // A Start that the other node did not answer in time comes here as well, a moment later by the clock.
  std::vector<accounting::Record> in_time{record(start("s2"), 10, 200s)};
  ASSERT_TRUE(store->hear(2, in_time));
  fill(start("s2"), 205s);
  ASSERT_EQ(sessions().size(), 2U);
  fill(stop("s2"), 230s);
  fill(start("s2"), 300s);  // it has ended: this is another one
  EXPECT_EQ(sessions().size(), 3U);
  fill(stop("s2"), 310s);

  // The device begins with the same number again, here: an older session of another node has the higher one.
  fill(start(), 3h);
  fill(interim().with("Acct-Input-Octets", "9"), 3h + 60s);
  Query open_only;
  open_only.open_only = true;
  ASSERT_EQ(sessions(open_only).size(), 1U);
  EXPECT_LT(sessions(open_only)[0].id, accounting::id_elsewhere(1, 0));
  EXPECT_EQ(sessions(open_only)[0].input_octets, 9U);
  std::size_t all = 0;
  ASSERT_TRUE(store->each_session({}, [&](const accounting::Session&) { ++all; }));
  EXPECT_EQ(all, 4U);
}

// Pages in the middle of a file are overwritten, as a disk does that dies.
void damage(const std::filesystem::path& file, double from, double to) {
  const auto size = static_cast<double>(std::filesystem::file_size(file));
  std::fstream out(file, std::ios::in | std::ios::out | std::ios::binary);
  const auto page = [&](double part) { return static_cast<std::streamoff>(size * part / 4096) * 4096; };
  out.seekp(page(from));
  out << std::string(static_cast<std::size_t>(page(to) - page(from)), 'x');
}

TEST_F(StoreTest, WhatCanBeReadOfADamagedDayIsKept) {
  std::vector<Incoming> many;
  for (int i = 0; i < 3000; ++i) many.push_back(incoming(start("s" + std::to_string(i)), 0s, {"reef"}));
  ASSERT_TRUE(store->fill(many));
  store.reset();
  const auto day = folder.path() / "records" / "2026-09-21.sqlite";
  damage(day, 0.45, 0.5);
  open();
  ASSERT_EQ(store->mended().size(), 1U);
  const Mended mended = store->mended()[0];
  EXPECT_EQ(mended.file, day);
  EXPECT_TRUE(std::filesystem::exists(mended.set_aside));
  EXPECT_FALSE(mended.why.empty());
  Query all;
  all.most = 5000;
  const auto records = *store->records(all);
  EXPECT_GT(records.size(), 1000U);
  EXPECT_LT(records.size(), 3000U);
  EXPECT_EQ(records.front().id, 3000) << "from both ends";
  EXPECT_EQ(records.back().id, 1);
  fill(start("new"), 1s);
  EXPECT_EQ(store->records(all)->size(), records.size() + 1);
  EXPECT_EQ(sessions({.most = 5000}).size(), 3001U) << "those are in another file";
  open();
  EXPECT_TRUE(store->mended().empty()) << "once";
}

TEST_F(StoreTest, WhatCanBeReadOfADamagedQueueIsKept) {
  std::vector<Incoming> many;
  for (int i = 0; i < 3000; ++i) many.push_back(incoming(start("s" + std::to_string(i)), 0s, {"reef"}));
  ASSERT_TRUE(store->fill(many));
  store.reset();
  damage(folder.path() / "accounting.sqlite", 0.5, 0.52);
  open();
  ASSERT_EQ(store->mended().size(), 1U);
  EXPECT_EQ(*store->last(), 3000);
  const std::size_t open_ones = sessions({.most = 5000}).size();
  const std::size_t queued = store->undelivered("reef", 0, 5000)->size();
  EXPECT_GT(open_ones + queued, 2000U);
  EXPECT_LT(open_ones + queued, 6000U);
  EXPECT_EQ(store->records({.most = 5000})->size(), 3000U) << "every record is there";
  ASSERT_TRUE(store->fill(many)) << "what is in the inbox still goes where it belongs";
}

// Killed between the two names: the new file is the one that counts.
TEST_F(StoreTest, MendingThatWasCutShortIsFinished) {
  fill(start());
  store.reset();
  const auto day = folder.path() / "records" / "2026-09-21.sqlite";
  std::filesystem::rename(day, day.string() + ".mended");
  std::ofstream(day.string() + "-wal") << "of the damaged one";
  std::ofstream(folder.path() / "records" / "2026-09-20.sqlite") << std::string(8192, 'x');
  std::ofstream(folder.path() / "records" / "2026-09-20.sqlite.mended") << "half";
  open();
  EXPECT_EQ(store->records({})->size(), 1U);
  ASSERT_EQ(store->mended().size(), 1U) << "of which nothing could be read";
  EXPECT_EQ(store->mended()[0].rows, 0U);
}

class InboxTest : public StoreTest {
 protected:
  std::unique_ptr<Inbox> inbox = std::move(*Inbox::open(folder.path()));
};

TEST_F(InboxTest, GivesBackWhatWasKeptUntilItMayForget) {
  const std::vector<Incoming> first{incoming(start("s1")), incoming(start("s2"))};
  const std::vector<Incoming> second{incoming(start("s3"), 0s, {"reef-homes"}, false)};
  ASSERT_TRUE(inbox->append(first));
  ASSERT_TRUE(inbox->append(second));
  inbox.reset();
  inbox = std::move(*Inbox::open(folder.path()));
  EXPECT_EQ(*inbox->last(), 3);
  const auto all = inbox->behind(0, 100);
  ASSERT_EQ(all->size(), 3U);
  EXPECT_EQ(all->at(2).groups, std::vector<std::string>{"reef-homes"});
  EXPECT_FALSE(all->at(2).keep);
  EXPECT_EQ(inbox->behind(1, 100)->size(), 2U);
  EXPECT_EQ(inbox->behind(0, 1)->size(), 2U);  // a commit is given whole
  ASSERT_TRUE(inbox->forget(2));
  EXPECT_EQ(inbox->behind(0, 100)->size(), 1U);
}

TEST_F(InboxTest, ADamagedCommitIsSetAsideAndTheOthersAreRead) {
  for (const char* session : {"s1", "s2", "s3"}) {
    const std::vector<Incoming> one{incoming(start(session))};
    ASSERT_TRUE(inbox->append(one));
  }
  inbox.reset();
  open_to_write(folder.path() / "inbox.sqlite")
      .exec("UPDATE inbox SET records = zeroblob(length(records)) WHERE last_id = 2");
  for (int i = 0; i < 2; ++i) {
    inbox = std::move(*Inbox::open(folder.path()));
    EXPECT_EQ(inbox->damaged(), 1);
    EXPECT_EQ(inbox->behind(0, 100)->size(), 2U);
    EXPECT_EQ(*inbox->last(), 3);
  }
}

TEST_F(InboxTest, WhoReadsMayDoSoMeanwhile) {
  auto reader = Inbox::open_for_reading(folder.path());
  ASSERT_TRUE(reader) << reader.error().text;
  const std::vector<Incoming> one{incoming(start())};
  ASSERT_TRUE(inbox->append(one));
  EXPECT_EQ((*reader)->behind(0, 100)->size(), 1U);
}

TEST_F(InboxTest, AFullDiskKeepsNothingOfTheCommit) {
  // SQLite's own limit on pages stands in for the full disk: the error is the same SQLITE_FULL.
  RequestBuilder request = start();
  for (int i = 0; i < 12; ++i) request.with("Filter-Id", std::string(240, 'x'));
  std::vector<Incoming> batch;
  for (int i = 0; i < 50; ++i) batch.push_back(incoming(request));
  inbox->limit_pages(20);
  const Status kept = inbox->append(batch);
  ASSERT_FALSE(kept);
  EXPECT_THAT(kept.error().text,
              testing::MatchesRegex(
                  "store: database or disk is full: make room in folder .*, where .* KiB are free"));
  EXPECT_TRUE(inbox->behind(0, 100)->empty());
  inbox->limit_pages(1000000);
  EXPECT_TRUE(inbox->append(batch));
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
  open_to_write(folder.path() / "accounting.sqlite").exec("PRAGMA user_version=99");
  EXPECT_THAT(AccountingStore::open(folder.path()).error().text,
              testing::HasSubstr("made by a newer version (tables 99"));
}

}  // namespace
}  // namespace jembatan::store
