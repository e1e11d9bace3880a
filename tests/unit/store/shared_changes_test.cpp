// Two stores that share a plan: what one changes is the other's, too, whole or not at all.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "revision/keeper.h"
#include "store/plan_store.h"
#include "support/fakes.h"
#include "support/process.h"

namespace jembatan::store {
namespace {

using revision::SharedChange;
using testing::HasSubstr;

constexpr const char* kSharedText = R"(
[[client]]
name = "kerapu"
address = "192.0.2.1"
secret = "angin kencang dari timur"
[[user]]
name = "Sari@reef.example"
password = { clear = "laut-biru-7" }
[[access]]
name = "night"
permit = false
message = "not at night"
)";

// What the database would be: changes as octets, one after the other.
class Board final : public revision::Agreement {
 public:
  Result<std::uint64_t> agree(std::uint64_t behind, const SharedChange& change) override {
    if (away) return fail(Errc::unreachable, "away");
    if (behind != changes.size()) return fail(Errc::conflict, "somebody else was first");
    changes.push_back(packed(change));
    return changes.size();
  }
  bool away = false;
  std::vector<Octets> changes;
};

class Node {
 public:
  explicit Node(Board& board) : store(*PlanStore::open(folder.path(), &board)), board_(board) {
    keeper = std::make_unique<revision::Keeper>(
        *store, *revision::SealKey::parse(Secret(std::string(64, '7'))), random);
  }
  void join() { EXPECT_TRUE(store->join({"hub", "o", Octets(3, 1), 0})); }
  void follow() {
    for (std::uint64_t i = store->membership()->change; i < board_.changes.size(); ++i) {
      const auto change = revision::unpacked(board_.changes[i]);
      ASSERT_TRUE(change) << change.error().text;
      const Status done = store->follow(i + 1, *change);
      ASSERT_TRUE(done) << done.error().text;
    }
  }
  Result<revision::Applied> apply(const std::string& text, std::string message = "") {
    document::Problems problems;
    const std::vector<plan::SourceFile> files{{"plan.toml", text}};
    const revision::Wish wish{{"wulan", revision::Role::operator_, "127.0.0.1"},
                              std::move(message),
                              {},
                              false,
                              true,
                              WallTime(std::chrono::hours(500'000)),
                              "apply"};
    auto out = keeper->apply(files, {}, wish, problems);
    EXPECT_TRUE(out || problems.errors() == 0) << problems.text();
    return out;
  }
  // Everything of it that counts.
  std::string all() {
    std::string out;
    const std::uint64_t newest = *store->newest();
    const auto objects = *store->objects(newest);
    for (const auto* object : objects.list())
      out += object->kind + " " + object->name + " " + std::to_string(object->rank) + "\n" + object->text;
    const auto history = *store->history({}, 100);
    for (const auto& r : history)
      out += std::to_string(r.number) + r.author + r.source + r.message + counts_text(r.counts) + r.summary +
             "\n";
    const auto tokens = *store->tokens_in_force();
    for (const auto& t : tokens) out += t.token.name + to_hex(t.hash) + "\n";
    const auto audit = *store->audit({});
    for (const auto& a : audit) out += a.author + a.from + a.action + a.subject + a.detail + "\n";
    return out;
  }

  support::TemporaryFolder folder;
  support::FixedRandom random{3};
  std::unique_ptr<PlanStore> store;
  std::unique_ptr<revision::Keeper> keeper;

 private:
  Board& board_;
};

const revision::AuditEntry kAudit{
    0, WallTime(std::chrono::hours(500'000)), "wulan", "administrator", "", "token create", "token tamu", ""};

TEST(SharedChanges, WhatOneNodeChangesIsTheOthersToo) {
  Board board;
  Node one(board);
  Node other(board);
  one.join();
  other.join();
  ASSERT_TRUE(one.apply(kSharedText, "the first"));
  other.follow();
  EXPECT_EQ(other.all(), one.all());
  EXPECT_EQ(text_of(other.keeper->secret("client", "kerapu", "secret")->reveal()),
            "angin kencang dari timur");

  std::string changed = kSharedText;
  changed.replace(changed.find("192.0.2.1"), 9, "192.0.2.9");
  ASSERT_TRUE(other.apply(changed.substr(0, changed.find("[[access]]")), "from the other"));
  ASSERT_TRUE(other.store->add_token({"tamu", revision::Role::viewer, kAudit.at, "wulan", {}}, Octets(32, 7),
                                     kAudit));
  one.follow();
  EXPECT_EQ(one.all(), other.all());
  EXPECT_THAT(one.all(), HasSubstr("tamu"));
  ASSERT_TRUE(one.store->revoke_token("tamu", kAudit.at, kAudit));
  other.follow();
  EXPECT_TRUE(other.store->tokens_in_force()->empty());
  one.follow();  // what it has already is passed over
  EXPECT_EQ(one.all(), other.all());
}

TEST(SharedChanges, NothingIsStoredThatTheOthersDidNotAgreeTo) {
  Board board;
  Node one(board);
  Node other(board);
  one.join();
  other.join();
  ASSERT_TRUE(one.apply(kSharedText));
  const auto too_late = other.apply(kSharedText);
  ASSERT_FALSE(too_late);
  EXPECT_EQ(too_late.error().code, Errc::conflict);
  EXPECT_EQ(*other.store->newest(), 0U);
  board.away = true;
  const std::string before = one.all();
  EXPECT_EQ(one.apply("").error().code, Errc::unreachable);
  EXPECT_FALSE(one.store->add_token({"tamu", revision::Role::viewer, {}, "", {}}, Octets(32), kAudit));
  EXPECT_EQ(one.all(), before);
  EXPECT_EQ(board.changes.size(), 1U);
  board.away = false;
  other.follow();
  EXPECT_EQ(other.all(), one.all());
  EXPECT_TRUE(other.apply(""));
}

TEST(SharedChanges, APlanThatWasANodesOwnBeginsAsItStands) {
  Board board;
  Node one(board);
  one.store = *PlanStore::open(one.folder.path());
  one.keeper = std::make_unique<revision::Keeper>(
      *one.store, *revision::SealKey::parse(Secret(std::string(64, '7'))), one.random);
  ASSERT_TRUE(one.apply(""));
  ASSERT_TRUE(one.apply(kSharedText, "the first"));
  ASSERT_TRUE(
      one.store->add_token({"tamu", revision::Role::viewer, kAudit.at, "wulan", {}}, Octets(32, 7), kAudit));
  const auto beginning = *one.store->beginning(kAudit);
  for (const SharedChange& change : beginning) board.changes.push_back(packed(change));
  EXPECT_EQ(board.changes.size(), 2U);
  Node other(board);
  other.join();
  other.follow();
  EXPECT_EQ(*other.store->newest(), *one.store->newest());
  const auto has = *other.store->objects(*other.store->newest());
  EXPECT_EQ(has.size(), one.store->objects(*one.store->newest())->size());
  EXPECT_EQ(text_of(other.keeper->secret("client", "kerapu", "secret")->reveal()),
            "angin kencang dari timur");
  EXPECT_EQ(other.store->tokens_in_force()->size(), 1U);
}

TEST(SharedChanges, WhatIsMissingOrDamagedIsNotTakenOver) {
  Board board;
  Node one(board);
  Node other(board);
  one.join();
  other.join();
  ASSERT_TRUE(one.apply(kSharedText));
  const Octets& whole = board.changes.front();
  EXPECT_EQ(other.store->follow(2, *revision::unpacked(whole)).error().code, Errc::conflict);
  for (std::size_t size = 0; size < whole.size(); ++size)
    EXPECT_FALSE(revision::unpacked(OctetView(whole).first(size))) << size;
  EXPECT_EQ(other.store->membership()->change, 0U);
}

// A folder of the version before is brought up to date, with what stands in it.
TEST(SharedChanges, AStoreOfVersion1BecomesOneOfToday) {
  Board board;
  support::TemporaryFolder folder;
  {
    Node one(board);
    one.join();
    ASSERT_TRUE(one.apply(kSharedText));
    one.store.reset();
    SQLite::Database database((one.folder.path() / "plan.sqlite").string(), SQLite::OPEN_READWRITE);
    database.exec("DROP TABLE membership; PRAGMA user_version = 1; PRAGMA wal_checkpoint(TRUNCATE)");
    std::filesystem::copy(one.folder.path() / "plan.sqlite", folder.path() / "plan.sqlite");
  }
  const auto opened = PlanStore::open(folder.path());
  ASSERT_TRUE(opened) << opened.error().text;
  EXPECT_EQ(*(*opened)->newest(), 1U);
  EXPECT_EQ((*opened)->membership()->plan, "");
  EXPECT_TRUE((*opened)->join({"hub", "o", Octets(3, 1), 5}));
  EXPECT_EQ((*opened)->membership()->change, 5U);
}

}  // namespace
}  // namespace jembatan::store
