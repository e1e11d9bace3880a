// From a worker's events to followers, the tally and the journal, without sockets.
#include <gtest/gtest.h>

#include <condition_variable>
#include <mutex>

#include "server/event_log.h"
#include "server/journal_writer.h"
#include "support/journal.h"
#include "support/packets.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;
using engine::Event;
using engine::Notice;
using engine::Outcome;

// Keeps blocks in memory; can be held up, and can fail.
class HeldBlocks final : public support::MemoryBlocks {
 public:
  struct Kept {
    std::mutex mutex;
    std::condition_variable changed;
    std::vector<journal::Block> blocks;
    bool held = false;
    bool fails = false;
  };
  explicit HeldBlocks(Kept& kept) : kept_(kept) {}
  Status append(std::span<const journal::Block> blocks) override {
    std::unique_lock lock(kept_.mutex);
    kept_.changed.wait(lock, [this] { return !kept_.held; });
    if (kept_.fails) return fail(Errc::io, "disk full");
    kept_.blocks.insert(kept_.blocks.end(), blocks.begin(), blocks.end());
    return {};
  }
  Result<std::uint64_t> last() override { return std::uint64_t{41}; }

 private:
  Kept& kept_;
};

class Events : public testing::Test {
 protected:
  Events()
      : writer(std::make_unique<HeldBlocks>(kept), journal::Limits{}),
        log(feed, tally, writer, host::LogFormat::text, {"--node n.toml", "--node n.toml", {}}) {}

  static Event dropped(std::string client = "gate") {
    Event out;
    out.outcome = Outcome::wrong_signature;
    out.source = *Endpoint::parse("192.0.2.1:4000", 0);
    out.client = std::move(client);
    out.because = "Message-Authenticator does not verify";
    return out;
  }
  static Event untold() {
    Event out;
    out.outcome = Outcome::accepted;
    out.client = "gate";
    out.untold = true;
    return out;
  }
  void take(std::vector<Event> events, std::vector<Notice> notices = {}) {
    log.take(events, notices);
    log.settle();
    writer.settle();
  }
  void hold(bool held) {
    const std::lock_guard lock(kept.mutex);
    kept.held = held;
    kept.changed.notify_all();
  }
  std::vector<journal::Entry> entries() {
    const std::lock_guard lock(kept.mutex);
    std::vector<journal::Entry> out;
    for (const journal::Block& block : kept.blocks) {
      const auto records = journal::records_in(block);
      for (const journal::Record& record : *records) out.push_back(journal::heading_of(record));
    }
    return out;
  }

  HeldBlocks::Kept kept;
  Feed feed;
  Tally tally;
  JournalWriter writer;
  EventLog log;
};

TEST_F(Events, NumbersGoOnFromTheJournalsLast) {
  take({dropped()});
  ASSERT_EQ(entries().size(), 1U);
  EXPECT_EQ(entries()[0].number, 42U);
  EXPECT_EQ(entries()[0].outcome, "wrong-signature");
}

TEST_F(Events, OfWhatCanFloodTheFirstIsKeptAndAllAreCounted) {
  take({dropped(), dropped(), dropped(), dropped("pier")});
  EXPECT_EQ(entries().size(), 1U);  // one address
  EXPECT_EQ(tally.by_client().at("gate")[static_cast<std::size_t>(Outcome::wrong_signature)], 3U);
  EXPECT_EQ(tally.by_client().at("pier")[static_cast<std::size_t>(Outcome::wrong_signature)], 1U);
}

TEST_F(Events, StrangersAreNotKept) {
  Event stranger = dropped("");
  stranger.outcome = Outcome::unknown_client;
  take({stranger});
  EXPECT_TRUE(entries().empty());
}

TEST_F(Events, FollowersSeeEventsWithTheirNumbersAndNotices) {
  Feed::Follower follower(feed);
  take({dropped()}, {{{}, engine::Weight::info, "server a/b", "up again (it answered)"}});
  const auto items = follower.take(1000ms);
  ASSERT_EQ(items.size(), 2U);
  EXPECT_EQ(std::get<Notice>(*items[0]).subject, "server a/b");
  EXPECT_EQ(std::get<Event>(*items[1]).number, 42U);
  EXPECT_EQ(std::get<Event>(*items[1]).mend, "compare with: jembatan client secret show gate --node n.toml");
}

TEST_F(Events, WhatWasNotEvenToldCountsAsShed) {
  take({untold(), untold()});
  EXPECT_EQ(writer.shed(), 2U);
  EXPECT_TRUE(entries().empty());
}

TEST_F(Events, AJournalThatFailsCountsWhatItLost) {
  {
    const std::lock_guard lock(kept.mutex);
    kept.fails = true;
  }
  take({dropped()});
  EXPECT_EQ(writer.shed(), 1U);
}

TEST_F(Events, AFullJournalShedsAndSaysSoUntilItHasRoom) {
  hold(true);
  auto put = [&, i = 0]() mutable {
    Event event = dropped();
    event.detail = std::string(4000, 'x') + std::to_string(++i);  // the same text is kept once
    writer.take(event);
    return event.number;
  };
  EXPECT_GT(put(), 0U);
  std::uint64_t last = 0;
  for (int i = 0; i < 50000 && !writer.full(); ++i)
    last = put();  // some went to the store's thread, which is held
  EXPECT_TRUE(writer.full());
  EXPECT_EQ(last, 0U);
  EXPECT_GT(writer.shed(), 0U);
  hold(false);
  writer.settle();
  writer.settle();
  EXPECT_FALSE(writer.full());
  EXPECT_GT(put(), 0U);
}

TEST(JournalWriterTest, WithoutAJournalNothingIsKeptAndNothingIsLost) {
  JournalWriter writer(nullptr, journal::Limits{Duration{0}});
  Event event;
  event.number = 7;
  writer.take(event);
  writer.count_untold();
  EXPECT_EQ(event.number, 0U);
  EXPECT_EQ(writer.shed(), 0U);
  EXPECT_TRUE(writer.full());  // nobody needs a story
  writer.settle();
}

TEST(FeedTest, ASlowFollowerLosesAndIsToldHowMany) {
  Feed feed;
  Feed::Follower slow(feed);
  const auto item = std::make_shared<const std::variant<Event, Notice>>(Notice{});
  for (int i = 0; i < 10003; ++i) feed.publish(item);
  EXPECT_EQ(slow.lost(), 3U);
  EXPECT_EQ(slow.take(0ms).size(), 10000U);
  feed.publish(item);
  EXPECT_EQ(slow.take(0ms).size(), 1U);
}

TEST(FeedTest, ClosingLetsEverybodyGo) {
  Feed feed;
  Feed::Follower follower(feed);
  EXPECT_TRUE(feed.followed());
  feed.close();
  EXPECT_TRUE(follower.take(60000ms).empty());
}

}  // namespace
}  // namespace jembatan::server
