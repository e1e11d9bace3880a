#pragma once
// A store in a folder of its own, and records for it.
#include <gtest/gtest.h>

#include "store/accounting_store.h"
#include "support/packets.h"
#include "support/process.h"

namespace jembatan::store {

using namespace std::chrono_literals;
using accounting::Delivered;
using accounting::Incoming;
using accounting::Query;
using support::accounting_request;
using support::RequestBuilder;

inline const WallTime kNow{std::chrono::seconds(1'790'000'000)};  // 2026-09-21 14:13:20 UTC

class StoreTest : public testing::Test {
 protected:
  void SetUp() override { open(); }
  void open() {
    store.reset();
    auto opened = AccountingStore::open(folder.path());
    ASSERT_TRUE(opened) << opened.error().text;
    store = std::move(*opened);
  }
  Incoming incoming(const RequestBuilder& request, std::chrono::seconds after = 0s,
                    std::vector<std::string> groups = {}, bool keep = true) {
    const Octets octets = request.signed_with(support::secret("s"));
    auto arrival =
        accounting::arrival_of(*wire::PacketView::parse(octets), {"kerapu", *IpAddress::parse("192.0.2.1")},
                               "reef.example", kNow + after);
    arrival->id = ++last;
    return {std::move(*arrival), keep, std::move(groups)};
  }
  std::int64_t fill(const Incoming& one) {
    const Status done = store->fill(std::span(&one, 1));
    EXPECT_TRUE(done) << done.error().text;
    return one.arrival.id;
  }
  std::int64_t fill(const RequestBuilder& request, std::chrono::seconds after = 0s) {
    return fill(incoming(request, after));
  }
  std::vector<accounting::Session> sessions(const Query& query = {}) { return *store->sessions(query); }
  std::vector<accounting::Undelivered> waiting(const std::string& group) {
    return *store->undelivered(group, 0, 100);
  }
  static Delivered delivered(std::int64_t id, const std::string& group) {
    return {id, group, "reef-1", {7}, kNow, kNow + 9ms};
  }
  void deliver(std::int64_t id, const std::string& group) {
    const Delivered one = delivered(id, group);
    EXPECT_TRUE(store->delivered(std::span(&one, 1)));
  }

  support::TemporaryFolder folder;
  std::unique_ptr<AccountingStore> store;
  std::int64_t last = 0;
};

inline RequestBuilder start(std::string_view session = "s1") {
  return accounting_request("Start", session).user("sari@reef.example").with("NAS-Identifier", "deck-1");
}
inline RequestBuilder interim(std::string_view session = "s1") {
  return accounting_request("Interim-Update", session)
      .user("sari@reef.example")
      .with("NAS-Identifier", "deck-1");
}
inline RequestBuilder stop(std::string_view session = "s1") {
  return accounting_request("Stop", session).user("sari@reef.example").with("NAS-Identifier", "deck-1");
}

}  // namespace jembatan::store
