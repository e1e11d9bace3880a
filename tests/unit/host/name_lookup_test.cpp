// Looking names up at a name server of our own, on loopback.
#include "host/name_lookup.h"

#include <gtest/gtest.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <thread>

#include "host/socket_address.h"

namespace jembatan::host {
namespace {

using namespace std::chrono_literals;

// Answers questions for addresses (RFC 1035 §4) with the same records each time.
class NameServer {
 public:
  struct Record {
    std::array<std::uint8_t, 4> address{};
    std::uint32_t ttl = 0;
  };
  explicit NameServer(std::vector<Record> records) : records_(std::move(records)) {
    SocketAddress any({*IpAddress::parse("127.0.0.1"), 0});
    fd_ = ::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    EXPECT_EQ(::bind(fd_, any.generic(), any.length), 0);
    EXPECT_EQ(::getsockname(fd_, any.generic(), &any.length), 0);
    at_ = endpoint_of(any.storage).text();
    thread_ = std::thread([this] { serve(); });
  }
  ~NameServer() {
    stop_ = true;
    thread_.join();
    ::close(fd_);
  }
  const std::string& at() const { return at_; }

 private:
  void serve() {
    pollfd waits{fd_, POLLIN, 0};
    while (!stop_) {
      if (::poll(&waits, 1, 10) <= 0) continue;
      std::array<std::uint8_t, 512> question{};
      SocketAddress from;
      const ssize_t size = ::recvfrom(fd_, question.data(), question.size(), 0, from.generic(), &from.length);
      const Octets reply = answer_to(OctetView(question).first(static_cast<std::size_t>(size)));
      (void)::sendto(fd_, reply.data(), reply.size(), 0, from.generic(), from.length);
    }
  }
  Octets answer_to(OctetView question) const {
    std::size_t end = 12;  // behind the name come its type and class
    while (question[end] != 0) end += 1U + question[end];
    end += 5;
    const bool v4 = question[end - 3] == 1;
    Octets out(question.begin(), question.begin() + static_cast<std::ptrdiff_t>(end));
    out[2] = 0x81;
    out[3] = records_.empty() ? 0x83 : 0x80;  // NXDOMAIN
    out[7] = v4 ? static_cast<std::uint8_t>(records_.size()) : 0;
    out[11] = 0;
    for (const Record& record : v4 ? records_ : std::vector<Record>{}) {
      const std::array<std::uint8_t, 12> head{0xC0,
                                              12,
                                              0,
                                              1,
                                              0,
                                              1,
                                              0,
                                              0,
                                              static_cast<std::uint8_t>(record.ttl >> 8U),
                                              static_cast<std::uint8_t>(record.ttl),
                                              0,
                                              4};
      append(out, head);
      append(out, record.address);
    }
    return out;
  }

  std::vector<Record> records_;
  int fd_ = -1;
  std::string at_;
  std::atomic<bool> stop_{false};
  std::thread thread_;
};

std::string text_of(const Result<FoundAddresses>& found) {
  if (!found) return found.error().text;
  std::string out;
  for (const IpAddress& address : found->addresses) out += address.text() + " ";
  return out + std::to_string(found->lives.count()) + "s";
}

TEST(NameLookup, FindsEveryAddressAndTheShortestTtlInAnOrderOfItsOwn) {
  const NameServer server({{{127, 0, 0, 9}, 300}, {{127, 0, 0, 3}, 90}, {{127, 0, 0, 9}, 300}});
  EXPECT_EQ(text_of(look_up("homes.reef.example", {server.at()})), "127.0.0.3 127.0.0.9 90s");
}

TEST(NameLookup, SaysWhatTheNameServerSays) {
  const NameServer server({});
  EXPECT_EQ(text_of(look_up("homes.reef.example", {server.at()})),
            "host name 'homes.reef.example': Domain name not found");
}

TEST(NameLookup, EndsWhenNobodyWaitsAnyMore) {
  const std::atomic<bool> given_up{true};
  const Result<FoundAddresses> found = look_up("homes.reef.example", {"127.0.0.1:9", &given_up});
  EXPECT_FALSE(found);
}

TEST(NameLookup, ReadsTheHostsFile) {
  const auto found = look_up("localhost");
  ASSERT_TRUE(found) << found.error().text;
  EXPECT_EQ(found->addresses.front().text(), "127.0.0.1");
}

}  // namespace
}  // namespace jembatan::host
