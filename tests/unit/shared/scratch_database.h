#pragma once
// A real PostgreSQL for the tests of what nodes share in one.
#include <gtest/gtest.h>

#include "shared/shared_store.h"
#include "support/packets.h"
#include "support/postgres.h"

namespace jembatan::shared {

class Shared : public testing::Test {
 protected:
  static void SetUpTestSuite() {
    database = std::make_unique<support::ScratchPostgres>();
    database->start("host all keeper 127.0.0.1/32 trust\n");
  }
  static void TearDownTestSuite() { database.reset(); }
  void SetUp() override { (void)sql("DROP SCHEMA IF EXISTS jembatan CASCADE"); }

  static std::string sql(const std::string& text) {
    const auto came = database->as_keeper(text);
    EXPECT_EQ(came.exit_code, 0) << came.error;
    return came.out.substr(0, came.out.find_last_not_of('\n') + 1);
  }
  static std::string connection() {
    return "postgresql://keeper@127.0.0.1:" + std::to_string(database->port()) + "/postgres";
  }
  static std::unique_ptr<SharedStore> open(const std::string& node, const std::string& origin) {
    auto out = SharedStore::open({connection(), node, origin});
    EXPECT_TRUE(out) << out.error().text;
    return out ? std::move(*out) : nullptr;
  }
  static accounting::Record record(std::int64_t id, const std::string& session = "s1",
                                   std::chrono::seconds after = {}) {
    const Octets packet = support::accounting_request("Start", session)
                              .user("sari@reef.example")
                              .with("NAS-Port", "3")
                              .signed_with(support::secret("laut"));
    auto arrival =
        accounting::arrival_of(*wire::PacketView::parse(packet), {"deck", *IpAddress::parse("192.0.2.1")},
                               "reef.example", WallTime(std::chrono::seconds(1'790'000'000)) + after);
    arrival->id = id;
    return accounting::taken_apart(std::move(*arrival));
  }

  static inline std::unique_ptr<support::ScratchPostgres> database;
};

}  // namespace jembatan::shared
