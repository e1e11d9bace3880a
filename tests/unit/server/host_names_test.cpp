#include "server/host_names.h"

#include <gtest/gtest.h>

#include "plan/read.h"

namespace jembatan::server {
namespace {

TEST(HostNames, AreKnownWhileTheResolverIsDead) {
  bool dead = false;
  HostNames names([&](const std::string& host) -> Result<IpAddress> {
    if (dead || host != "pier.strait.example")
      return fail(Errc::not_found, "host name '" + host + "': no answer");
    return IpAddress::parse("192.0.2.9");
  });
  const std::vector<plan::SourceFile> files{
      {"plan.toml", "[[client]]\nname = \"pier\"\naddress = \"pier.strait.example\"\nsecret = \"angin\"\n"}};
  plan::Outside outside;
  outside.resolve = [&](const std::string& host) { return names.address_of(host); };
  document::Problems problems;
  const auto plan = plan::read(files, outside, problems);
  ASSERT_TRUE(plan) << problems.text();
  names.remember(*plan);
  dead = true;
  const auto again = plan::read(files, outside, problems);
  ASSERT_TRUE(again) << problems.text();
  EXPECT_EQ(again->client_named("pier")->address.address.text(), "192.0.2.9");
  EXPECT_EQ(names.address_of("quay.strait.example").error().text,
            "host name 'quay.strait.example': no answer");
}

}  // namespace
}  // namespace jembatan::server
