#include "host/certificate.h"

#include <gtest/gtest.h>

#include "base/text.h"
#include "support/process.h"

namespace jembatan::host {
namespace {

TEST(Certificate, ItsExpiryIsReadAndSoonTold) {
  const support::TemporaryFolder folder;
  const std::string file = (folder.path() / "cert.pem").string();
  const auto made = support::run({"/usr/bin/openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt",
                                  "ec_paramgen_curve:prime256v1", "-nodes", "-days", "2", "-subj", "/CN=hub",
                                  "-keyout", (folder.path() / "key.pem").string(), "-out", file});
  ASSERT_EQ(made.exit_code, 0) << made.error;
  const auto expiry = expiry_of(support::read_file(file));
  ASSERT_TRUE(expiry);
  const auto left = *expiry - std::chrono::system_clock::now();
  EXPECT_GT(left, std::chrono::hours(47));
  EXPECT_LE(left, std::chrono::hours(48));
  EXPECT_FALSE(expiry_of("-----BEGIN CERTIFICATE-----\nAA==\n-----END CERTIFICATE-----\n"));
  EXPECT_FALSE(expiry_of(""));
}

TEST(Certificate, InWords) {
  const WallTime expiry = *parse_time("2026-12-01T12:00:00Z");
  EXPECT_EQ(expiry_text(expiry, *parse_time("2026-10-01T00:00:00Z")), "");
  EXPECT_EQ(expiry_text(expiry, *parse_time("2026-11-25T13:00:00Z")),
            "it expires at 2026-12-01 12:00:00Z, in 5 days");
  EXPECT_EQ(expiry_text(expiry, *parse_time("2026-11-30T11:00:00Z")),
            "it expires at 2026-12-01 12:00:00Z, in 1 day");
  EXPECT_EQ(expiry_text(expiry, expiry), "it expired at 2026-12-01 12:00:00Z");
}

}  // namespace
}  // namespace jembatan::host
