// The threads of a node, each by itself: what they hand to each other, in which order, and what they do with
// it when the other side does not want it.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <poll.h>

#include <condition_variable>
#include <future>
#include <mutex>

#include "server/deliverer.h"
#include "server/event_log.h"
#include "server/prober.h"
#include "server/worker.h"
#include "support/journal.h"
#include "support/packets.h"
#include "support/process.h"
#include "wire/authenticator.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;
using accounting::Incoming;
using engine::Outcome;
using support::UdpPeer;
using testing::ElementsAre;
using testing::UnorderedElementsAre;

constexpr auto kSoon = 10s;

// What an inbox and a store were told; the inbox can be held up, and both can refuse.
struct Shelf {
  std::mutex mutex;
  std::condition_variable changed;
  std::vector<Incoming> inbox;
  std::vector<std::size_t> commits;  // how many records each
  std::int64_t forgotten = 0;
  std::vector<Incoming> filled;
  std::vector<accounting::Undelivered> queue;
  std::vector<std::int64_t> taken_off;
  bool held = false;
  bool refuses = false;
  bool store_refuses = false;

  void hold(bool now) {
    const std::lock_guard lock(mutex);
    held = now;
    changed.notify_all();
  }
  void refuse_in_store(bool now) {
    const std::lock_guard lock(mutex);
    store_refuses = now;
  }
  template <class Reached>
  bool wait_until(Reached reached) {
    std::unique_lock lock(mutex);
    return changed.wait_for(lock, kSoon, reached);
  }
};

class ShelfInbox final : public accounting::Inbox {
 public:
  explicit ShelfInbox(Shelf& shelf) : shelf_(shelf) {}
  Status append(std::span<const Incoming> records) override {
    std::unique_lock lock(shelf_.mutex);
    shelf_.commits.push_back(records.size());
    shelf_.changed.notify_all();
    shelf_.changed.wait(lock, [this] { return !shelf_.held; });
    if (shelf_.refuses) return fail(Errc::io, "disk full");
    shelf_.inbox.insert(shelf_.inbox.end(), records.begin(), records.end());
    return {};
  }
  Result<std::vector<Incoming>> behind(std::int64_t id, std::size_t most) override {
    const std::lock_guard lock(shelf_.mutex);
    std::vector<Incoming> out;
    for (const Incoming& one : shelf_.inbox)
      if (one.arrival.id > id && out.size() < most) out.push_back(one);
    return out;
  }
  Status forget(std::int64_t up_to) override {
    const std::lock_guard lock(shelf_.mutex);
    std::erase_if(shelf_.inbox, [&](const Incoming& one) { return one.arrival.id <= up_to; });
    shelf_.forgotten = up_to;
    shelf_.changed.notify_all();
    return {};
  }
  Result<std::int64_t> last() override { return 0; }

 private:
  Shelf& shelf_;
};

class ShelfStore final : public accounting::Store {
 public:
  explicit ShelfStore(Shelf& shelf) : shelf_(shelf) {}
  Status fill(std::span<const Incoming> records) override {
    const std::lock_guard lock(shelf_.mutex);
    shelf_.changed.notify_all();
    if (shelf_.store_refuses) return fail(Errc::io, "disk full");
    shelf_.filled.insert(shelf_.filled.end(), records.begin(), records.end());
    return {};
  }
  Status hear(std::int64_t, std::span<const accounting::Record>) override { return {}; }
  Result<std::int64_t> heard(std::int64_t) override { return 0; }
  void watch(std::function<void(const accounting::Session&)>) override {}
  Status settle() override { return {}; }
  Result<std::string> tidy(WallTime, const accounting::Housekeeping&) override { return std::string(); }
  Result<std::int64_t> last() override { return 0; }
  Result<std::optional<std::int64_t>> find(const accounting::Arrival&) override {
    return std::optional<std::int64_t>{};
  }
  Result<std::vector<accounting::Arrival>> newest(std::size_t) override {
    return std::vector<accounting::Arrival>{};
  }
  Result<std::vector<accounting::Undelivered>> undelivered(const std::string& group, std::int64_t behind,
                                                           std::size_t most) override {
    const std::lock_guard lock(shelf_.mutex);
    std::vector<accounting::Undelivered> out;
    for (const auto& one : shelf_.queue)
      if (one.group == group && one.arrival.id > behind && out.size() < most) out.push_back(one);
    return out;
  }
  Status delivered(std::span<const accounting::Delivered> records) override {
    const std::lock_guard lock(shelf_.mutex);
    for (const auto& gone : records) {
      shelf_.taken_off.push_back(gone.id);
      std::erase_if(shelf_.queue, [&](const auto& one) { return one.arrival.id == gone.id; });
    }
    shelf_.changed.notify_all();
    return {};
  }
  Status set_aside(std::span<const accounting::SetAside>) override { return {}; }
  Result<std::vector<std::string>> waiting_groups() override {
    const std::lock_guard lock(shelf_.mutex);
    std::set<std::string> out;
    for (const auto& one : shelf_.queue) out.insert(one.group);
    return std::vector<std::string>(out.begin(), out.end());
  }
  Result<std::vector<accounting::QueueDepth>> queue() override {
    return std::vector<accounting::QueueDepth>{};
  }
  Result<std::uint64_t> redirect(const std::string&, const std::optional<std::string>&) override { return 0; }
  Result<std::vector<accounting::Record>> records(const accounting::Query&) override {
    return std::vector<accounting::Record>{};
  }
  Result<std::vector<accounting::Session>> sessions(const accounting::Query&) override {
    return std::vector<accounting::Session>{};
  }
  Result<std::vector<accounting::Record>> records_of(const accounting::Session&) override {
    return std::vector<accounting::Record>{};
  }
  Status each_session(const accounting::Query&,
                      const std::function<void(const accounting::Session&)>&) override {
    return {};
  }
  Status each_entry(const accounting::LedgerQuery&,
                    const std::function<void(const accounting::Entry&)>&) override {
    return {};
  }
  Result<accounting::Whereabouts> whereabouts(std::int64_t) override { return accounting::Whereabouts{}; }
  Result<std::vector<accounting::StoredDay>> stored() override {
    return std::vector<accounting::StoredDay>{};
  }

 private:
  Shelf& shelf_;
};

// What a writer told the workers.
struct Told {
  std::mutex mutex;
  std::condition_variable changed;
  std::map<std::size_t, std::vector<AccountingWriter::Done>> by_worker;
  std::size_t kept = 0;

  AccountingWriter::Parts parts(Shelf& shelf) {
    return {.inbox = std::make_unique<ShelfInbox>(shelf),
            .known = accounting::KnownRecords(100),
            .last = 0,
            .find_older = [](const accounting::Arrival&) { return std::optional<std::int64_t>{}; },
            .recorded =
                [this](std::size_t worker, std::vector<AccountingWriter::Done> done) {
                  const std::lock_guard lock(mutex);
                  for (auto& one : done) by_worker[worker].push_back(std::move(one));
                  changed.notify_all();
                },
            .kept =
                [this] {
                  const std::lock_guard lock(mutex);
                  ++kept;
                }};
  }
  std::size_t wait_for(std::size_t worker, std::size_t count) {
    std::unique_lock lock(mutex);
    changed.wait_for(lock, kSoon, [&] { return by_worker[worker].size() >= count; });
    return by_worker[worker].size();
  }
};

// Each ticket's record is one of its own.
AccountingWriter::Job job(std::size_t worker, std::uint32_t ticket) {
  Incoming incoming;
  incoming.arrival.key[0] = static_cast<std::uint8_t>(ticket);
  return {worker, {ticket, 0}, std::move(incoming)};
}

TEST(Writing, WhatComesWhileACommitRunsGoesIntoTheNextTogether) {
  Shelf shelf;
  Told told;
  shelf.hold(true);
  AccountingWriter writer(told.parts(shelf));
  ASSERT_TRUE(writer.record(job(0, 1)));
  ASSERT_TRUE(shelf.wait_until([&] { return shelf.commits.size() == 1; }));
  ASSERT_TRUE(writer.record(job(1, 2)));
  ASSERT_TRUE(writer.record(job(0, 3)));
  EXPECT_EQ(told.kept, 0U);
  shelf.hold(false);
  EXPECT_EQ(told.wait_for(0, 2), 2U);
  EXPECT_EQ(told.wait_for(1, 1), 1U);
  EXPECT_EQ(told.by_worker[0][0].ticket.index, 1U);
  EXPECT_EQ(told.by_worker[0][1].ticket.index, 3U);
  EXPECT_TRUE(told.by_worker[1][0].kept.has_value());
  EXPECT_EQ(writer.backlog(), 3U);
  writer.filled(2);
  EXPECT_EQ(writer.backlog(), 1U);
  writer.stop();
  EXPECT_THAT(shelf.commits, ElementsAre(1, 2));
  EXPECT_EQ(told.kept, 2U);
  EXPECT_EQ(writer.problem(), "");
  EXPECT_FALSE(writer.record(job(0, 4)));
}

TEST(Writing, ResendsAreKnownAlsoInOneCommit) {
  Shelf shelf;
  Told told;
  shelf.hold(true);
  AccountingWriter writer(told.parts(shelf));
  ASSERT_TRUE(writer.record(job(0, 1)));
  ASSERT_TRUE(shelf.wait_until([&] { return shelf.commits.size() == 1; }));
  ASSERT_TRUE(writer.record(job(0, 2)));
  ASSERT_TRUE(writer.record(job(0, 2)));
  ASSERT_TRUE(writer.record(job(0, 1)));
  shelf.hold(false);
  ASSERT_EQ(told.wait_for(0, 4), 4U);
  const auto& done = told.by_worker[0];
  EXPECT_FALSE(done[1].kept->duplicate);
  EXPECT_TRUE(done[2].kept->duplicate);
  EXPECT_EQ(done[2].kept->id, done[1].kept->id);
  EXPECT_TRUE(done[3].kept->duplicate);
  EXPECT_EQ(done[3].kept->id, done[0].kept->id);
  writer.stop();
  EXPECT_EQ(shelf.inbox.size(), 2U);
}

TEST(Writing, AnInboxThatRefusesIsToldToEachAndTheNextTryIsNoResend) {
  Shelf shelf;
  Told told;
  shelf.refuses = true;
  AccountingWriter writer(told.parts(shelf));
  ASSERT_TRUE(writer.record(job(0, 1)));
  ASSERT_EQ(told.wait_for(0, 1), 1U);
  EXPECT_EQ(told.by_worker[0][0].kept.error().text, "disk full");
  EXPECT_EQ(writer.problem(), "disk full");
  EXPECT_EQ(told.kept, 0U);
  {
    const std::lock_guard lock(shelf.mutex);
    shelf.refuses = false;
  }
  ASSERT_TRUE(writer.record(job(0, 1)));
  ASSERT_EQ(told.wait_for(0, 2), 2U);
  EXPECT_FALSE(told.by_worker[0][1].kept->duplicate);
  EXPECT_EQ(told.by_worker[0][1].kept->id, 1);
  writer.stop();
}

TEST(Writing, WhatWaitsAtTheEndIsWritten) {
  Shelf shelf;
  Told told;
  shelf.hold(true);
  AccountingWriter writer(told.parts(shelf));
  for (std::uint32_t i = 0; i < 5; ++i) ASSERT_TRUE(writer.record(job(0, i)));
  auto stopping = std::async(std::launch::async, [&] { writer.stop(); });
  shelf.hold(false);
  stopping.get();
  EXPECT_EQ(told.by_worker[0].size(), 5U);
}

// An inbox with so many records, of which each is for a group.
void put_into(Shelf& shelf, std::int64_t count, const std::string& group) {
  for (std::int64_t id = 1; id <= count; ++id) {
    Incoming one;
    one.arrival.id = id;
    one.groups = {group};
    shelf.inbox.push_back(std::move(one));
  }
}

struct Filling {
  Shelf shelf;
  std::atomic<std::int64_t> filled{0};
  std::atomic<std::int64_t> settled{0};
  std::set<std::string> queued;        // under the shelf's mutex
  std::set<std::string> queued_again;  // likewise
  Filler filler{{.inbox = std::make_unique<ShelfInbox>(shelf),
                 .store = std::make_unique<ShelfStore>(shelf),
                 .housekeeping = {},
                 .filled = [this](std::int64_t up_to) { filled = up_to; },
                 .settled = [this](std::int64_t up_to) { settled = up_to; },
                 .queued =
                     [this](const std::set<std::string>& groups) {
                       const std::lock_guard lock(shelf.mutex);
                       queued.insert(groups.begin(), groups.end());
                     },
                 .queued_again =
                     [this](const std::set<std::string>& groups) {
                       const std::lock_guard lock(shelf.mutex);
                       queued_again.insert(groups.begin(), groups.end());
                     },
                 .taken_off = [](std::vector<accounting::Delivered>) {}}};
};

TEST(FillingTest, WhatIsLeftInTheInboxIsTakenOverAtTheStart) {
  Filling one;
  put_into(one.shelf, 10000, "lagoon");
  one.filler.start();
  std::size_t seen = 0;
  for (int i = 0; i < 3 && seen < 10000; ++i)  // in two transactions
    one.filler.work([&](accounting::Store&) { seen = one.shelf.filled.size(); });
  EXPECT_EQ(seen, 10000U);
  EXPECT_EQ(one.filled, 10000);
  EXPECT_THAT(one.queued, ElementsAre("lagoon"));
  one.filler.stop();
  EXPECT_EQ(one.settled, 10000);
  EXPECT_FALSE(one.filler.work([](accounting::Store&) {}));
}

// What comes from another node may have been here before: its queue is looked through anew.
TEST(FillingTest, QueuesOfWhatWasTakenOverAreToldApart) {
  Filling one;
  put_into(one.shelf, 2, "lagoon");
  one.shelf.inbox.back().taken_over = true;
  one.shelf.inbox.back().groups = {"mail"};
  one.filler.start();
  one.filler.work([](accounting::Store&) {});
  EXPECT_THAT(one.queued, ElementsAre("lagoon"));
  EXPECT_THAT(one.queued_again, ElementsAre("mail"));
}

TEST(FillingTest, AStoreThatRefusesIsTriedAgainAndNothingIsForgottenMeanwhile) {
  Filling one;
  one.shelf.store_refuses = true;
  put_into(one.shelf, 3, "lagoon");
  one.filler.start();
  one.filler.work([](accounting::Store&) {});
  EXPECT_EQ(one.filler.problem(), "disk full");
  EXPECT_EQ(one.settled, 0);
  one.shelf.refuse_in_store(false);
  ASSERT_TRUE(one.shelf.wait_until([&] { return one.shelf.filled.size() == 3; }));
  one.filler.work([](accounting::Store&) {});
  EXPECT_EQ(one.filler.problem(), "");
  one.filler.stop();
  EXPECT_EQ(one.settled, 3);
}

// What is well elsewhere does not hide it: the records are taken over without another one having to come.
TEST(FillingTest, AStoreThatTakesDeliveriesAndRefusesRecordsIsTriedAgain) {
  Filling one;
  one.shelf.store_refuses = true;
  put_into(one.shelf, 3, "lagoon");
  one.filler.start();
  one.filler.work([](accounting::Store&) {});
  one.filler.delivered({{1, "lagoon", "lagoon-1", {}, {}, {}}});
  ASSERT_TRUE(one.shelf.wait_until([&] { return !one.shelf.taken_off.empty(); }));
  one.filler.work([](accounting::Store&) {});
  EXPECT_EQ(one.filler.problem(), "disk full");
  one.shelf.refuse_in_store(false);
  EXPECT_TRUE(one.shelf.wait_until([&] { return one.shelf.filled.size() == 3; }));
  one.filler.stop();
}

// Asks for one answer; gives the port that the ask came from.
TEST(LanesTest, EachLaneHasAPortOfItsOwnAndAnswersComeBackByIt) {
  asio::io_context io;
  Tap tap;
  std::vector<std::pair<std::uint16_t, std::string>> came;
  std::size_t batches = 0;
  Lanes lanes(
      io, {}, tap,
      [&](std::uint16_t lane, const Received& datagram) {
        came.emplace_back(lane, std::string(text_of(datagram.octets)));
      },
      [&] { ++batches; });
  const UdpPeer server;
  const Endpoint to = *Endpoint::parse("127.0.0.1:" + std::to_string(server.port()), 0);
  engine::Actions actions;
  for (const std::uint16_t lane : {0, 1, 0}) {
    const Octets octets = octets_of("from lane " + std::to_string(lane));
    actions.asks.push_back({lane, to, actions.keep(octets)});
  }
  ASSERT_TRUE(lanes.send(actions));
  std::map<std::string, std::set<int>> ports;
  for (int i = 0; i < 3; ++i) {
    const auto asked = server.receive(5000ms);
    ports[std::string(asked.begin(), asked.end())].insert(server.from());
    server.send("127.0.0.1", server.from(), asked);
  }
  EXPECT_EQ(ports["from lane 0"].size(), 1U);
  EXPECT_EQ(ports["from lane 1"].size(), 1U);
  EXPECT_NE(ports["from lane 0"], ports["from lane 1"]);
  while (came.size() < 3 && io.run_one_for(kSoon) > 0) continue;
  EXPECT_THAT(came, UnorderedElementsAre(std::pair(std::uint16_t{0}, "from lane 0"),
                                         std::pair(std::uint16_t{0}, "from lane 0"),
                                         std::pair(std::uint16_t{1}, "from lane 1")));
  EXPECT_GE(batches, 2U);
  lanes.close();
}

TEST(LanesTest, ASourceAddressThatIsNotOursIsAnErrorAndOthersAreSent) {
  asio::io_context io;
  Tap tap;
  Lanes lanes(
      io, {*IpAddress::parse("192.0.2.1")}, tap, [](std::uint16_t, const Received&) {}, [] {});
  auto server = UdpSocket::bind(*Endpoint::parse("[::1]:0", 0), SharePort::no);
  if (!server) GTEST_SKIP() << "no IPv6 here: " << server.error().text;
  engine::Actions actions;
  const Octets octets{1, 2, 3};
  actions.asks.push_back({0, *Endpoint::parse("127.0.0.1:9", 0), actions.keep(octets)});
  actions.asks.push_back({0, server->local(), actions.keep(octets)});
  const Status sent = lanes.send(actions);
  EXPECT_FALSE(sent);
  pollfd readable{server->fd(), POLLIN, 0};
  ASSERT_EQ(::poll(&readable, 1, 5000), 1);
  ReceiveBatch batch;
  EXPECT_EQ(server->receive(batch).size(), 1U);
  lanes.close();
}

constexpr const char* kPlan = R"(
[[client]]
name = "gate"
address = "127.0.0.1"
secret = "laut"
[[user]]
name = "sari@reef.example"
password = { clear = "laut-biru-7" }
[[realm]]
name = "reef.example"
handle = "here"
)";

// What a node's threads share, without the node.
class Threads : public testing::Test {
 protected:
  void use(const std::string& plan) { slot.publish(board.go_live(support::plan_of(plan), 1)); }
  std::vector<engine::Event> events() {
    log.settle();
    std::vector<engine::Event> out;
    for (const FeedItem& item : follower.take(0ms)) {
      if (const auto* event = std::get_if<engine::Event>(&*item)) out.push_back(*event);
    }
    return out;
  }

  forward::HealthBoard board;
  PlanSlot slot;
  Feed feed;
  Feed::Follower follower{feed};
  Tally tally;
  JournalWriter journal{nullptr, {}};
  EventLog log{feed, tally, journal, host::LogFormat::text, {}};
  Tap tap;
  Unmask unmask;
  Shelf shelf;
  Told told;
};

TEST_F(Threads, TheDelivererTakesARecordOffWhenItIsAcknowledged) {
  const UdpPeer home;
  use(std::string(kPlan) + "[[group]]\nname = \"lagoon\"\n[[group.server]]\nname = \"lagoon-1\"\n" +
      "address = \"127.0.0.1\"\naccounting_port = " + std::to_string(home.port()) + "\nsecret = \"danau\"\n");
  accounting::Undelivered waiting{"lagoon", {}};
  waiting.arrival.id = 7;
  waiting.arrival.client = "gate";
  waiting.arrival.attributes = *dictionary::encode(dictionary::standard(), "Acct-Session-Id", "\"a1\"");
  accounting::Undelivered lost = waiting;
  lost.group = "a group that is gone";
  lost.arrival.id = 8;
  shelf.queue = {waiting, lost};
  Deliverer deliverer(std::make_unique<ShelfStore>(shelf), {}, Deliverer::Parts{slot, log, tap, [] {}});
  Filler filler(
      {.inbox = std::make_unique<ShelfInbox>(shelf),
       .store = std::make_unique<ShelfStore>(shelf),
       .housekeeping = {},
       .filled = [](std::int64_t) {},
       .settled = [](std::int64_t) {},
       .queued = [&](const std::set<std::string>& groups) { deliverer.look(groups); },
       .queued_again = [&](const std::set<std::string>& groups) { deliverer.begin_anew(groups); },
       .taken_off =
           [&](std::vector<accounting::Delivered> records) { deliverer.taken_off(std::move(records)); }});
  filler.start();
  deliverer.start(filler);
  const auto asked = home.receive(10000ms);
  const auto packet = wire::PacketView::parse(asked);
  ASSERT_TRUE(packet);
  EXPECT_EQ(packet->code(), wire::Code::accounting_request);
  EXPECT_TRUE(wire::verify_digested_request(*packet, support::secret("danau")));
  wire::PacketBuilder reply(wire::Code::accounting_response, packet->identifier(), packet->authenticator());
  const OctetSpan octets = reply.finish();
  wire::sign_response(octets, packet->authenticator(), support::secret("danau"));
  home.send("127.0.0.1", home.from(), {octets.begin(), octets.end()});
  EXPECT_TRUE(shelf.wait_until([&] { return !shelf.taken_off.empty(); }));
  deliverer.stop();
  filler.stop();
  EXPECT_THAT(shelf.taken_off, ElementsAre(7));
  EXPECT_EQ(shelf.queue.size(), 1U);  // its group may come back
}

TEST_F(Threads, TheProberAsksAndTellsWhatCame) {
  const UdpPeer home;
  use(std::string(kPlan) + "[[realm]]\nname = \"lagoon.example\"\nhandle = \"group:lagoon\"\n" +
      "[[group]]\nname = \"lagoon\"\nanswer_within = \"100ms\"\ndown_after = 1\nprobe = "
      "\"status-server\"\n[[group.server]]\nname = \"lagoon-1\"\n" +
      "address = \"127.0.0.1\"\naccess_port = " + std::to_string(home.port()) + "\nsecret = \"danau\"\n");
  Prober prober(Prober::Parts{slot, log, tap}, {}, "gate");
  prober.start();
  const auto answer = [&](const std::vector<unsigned char>& asked) {
    const auto packet = wire::PacketView::parse(asked);
    wire::PacketBuilder reply(wire::Code::access_accept, packet->identifier(), packet->authenticator());
    (void)reply.add_message_authenticator();
    const OctetSpan octets = reply.finish();
    wire::sign_response(octets, packet->authenticator(), support::secret("danau"));
    home.send("127.0.0.1", home.from(), {octets.begin(), octets.end()});
  };
  const auto asked = home.receive(10000ms);  // by itself, because the plan has a probe
  ASSERT_FALSE(asked.empty());
  EXPECT_EQ(asked[0], static_cast<unsigned char>(wire::Code::status_server));
  EXPECT_EQ(support::value_in(asked, "NAS-Identifier"), "\"gate\"");
  auto& health = *slot.current()->health_of(0, forward::Purpose::access)[0];
  const auto until = std::chrono::steady_clock::now() + kSoon;
  while (!health.down() && std::chrono::steady_clock::now() < until) std::this_thread::yield();
  EXPECT_TRUE(health.down());  // nobody answered within 100 ms
  std::thread asking([&] {
    const auto result = prober.ask(slot.current(), {0, 0, forward::Purpose::access});
    ASSERT_TRUE(result);
    EXPECT_TRUE(result->answered);
    EXPECT_EQ(result->code, wire::Code::access_accept);
  });
  answer(home.receive(10000ms));
  asking.join();
  EXPECT_FALSE(health.down());
  prober.stop();
}

class OneWorker : public Threads {
 protected:
  OneWorker() {
    use(kPlan);
    std::vector<Listener> listeners;
    for (const auto purpose : {forward::Purpose::access, forward::Purpose::accounting}) {
      const Endpoint at = *Endpoint::parse("127.0.0.1:0", 0);
      listeners.push_back({purpose, at, *UdpSocket::bind(at, SharePort::yes)});
      ports.push_back(listeners.back().socket.local().port);
    }
    worker = std::make_unique<Worker>(
        0, std::move(listeners), std::vector<IpAddress>{},
        Shared{slot, log, writer, proofs, directories, codes, tap, unmask, [] {},
               [](auto& copies) { copies.clear(); }, nullptr, nullptr, nullptr, nullptr, nullptr, nullptr});
    worker->start();
  }
  ~OneWorker() override {
    worker->stop();
    writer.stop();
    proofs.stop();
    directories.stop();
    codes.stop();
  }

  AccountingWriter writer{told.parts(shelf)};
  ProofPool proofs{1};
  Directories directories{log};
  support::TemporaryFolder folder;
  CodeJudge codes{*store::CodeBook::open(folder.path()), log};
  std::vector<int> ports;
  std::unique_ptr<Worker> worker;
  const UdpPeer device;
};

TEST_F(OneWorker, AnswersAndTells) {
  device.send("127.0.0.1", ports[0],
              support::access_request(3)
                  .user("sari@reef.example")
                  .password("laut-biru-7")
                  .signed_with(support::secret("laut")));
  const auto reply = device.receive(10000ms);
  ASSERT_FALSE(reply.empty());
  EXPECT_EQ(static_cast<wire::Code>(reply[0]), wire::Code::access_accept);
  worker->stop();
  const auto told_of = events();
  ASSERT_EQ(told_of.size(), 1U);
  EXPECT_EQ(told_of[0].outcome, Outcome::accepted);
  EXPECT_EQ(told_of[0].name, "sari@reef.example");
  EXPECT_EQ(worker->counters().count(Outcome::accepted), 1U);
}

TEST_F(OneWorker, ARecordThatNobodyTakesEndsAtOnce) {
  writer.stop();
  device.send("127.0.0.1", ports[1],
              support::accounting_request("Start", "s1", 4)
                  .user("sari@reef.example")
                  .signed_with(support::secret("laut")));
  std::vector<engine::Event> all;
  for (int i = 0; i < 100 && all.empty(); ++i) {
    for (const FeedItem& item : follower.take(100ms))
      if (const auto* event = std::get_if<engine::Event>(&*item)) all.push_back(*event);
  }
  ASSERT_EQ(all.size(), 1U);
  EXPECT_EQ(all[0].outcome, Outcome::overloaded);
  EXPECT_EQ(all[0].because, "too many records wait to be written");
  worker->stop();
  EXPECT_EQ(worker->in_flight(), 0U);
}

TEST_F(OneWorker, ARecordIsAnsweredWhenItIsDurable) {
  device.send("127.0.0.1", ports[1],
              support::accounting_request("Start", "s1", 4)
                  .user("sari@reef.example")
                  .signed_with(support::secret("laut")));
  ASSERT_EQ(told.wait_for(0, 1), 1U);
  // The writer may be quicker than the worker, which counts when all is handed over.
  EXPECT_TRUE(support::eventually([&] { return worker->in_flight() == 1; }));
  EXPECT_TRUE(device.receive(0ms).empty());
  worker->recorded(std::move(told.by_worker[0]));
  const auto reply = device.receive(10000ms);
  ASSERT_FALSE(reply.empty());
  EXPECT_EQ(static_cast<wire::Code>(reply[0]), wire::Code::accounting_response);
}

TEST_F(OneWorker, WhatWaitsWhenItStopsIsToldAndNotAnswered) {
  shelf.hold(true);
  device.send("127.0.0.1", ports[1],
              support::accounting_request("Start", "s1", 4)
                  .user("sari@reef.example")
                  .signed_with(support::secret("laut")));
  ASSERT_TRUE(shelf.wait_until([&] { return shelf.commits.size() == 1; }));
  worker->stop();
  shelf.hold(false);
  const auto told_of = events();
  ASSERT_EQ(told_of.size(), 1U);
  EXPECT_EQ(told_of[0].outcome, Outcome::stopped);
  EXPECT_TRUE(device.receive(0ms).empty());
}

}  // namespace
}  // namespace jembatan::server
