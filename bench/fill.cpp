// Fills a node's accounting store, as the node would, with sessions that are spread over days.
//   jembatan_fill FOLDER RECORDS DAYS
// Prints for each million: records a second, and the memory of this process.
#include <sys/resource.h>

#include <array>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <string>
#include <vector>

#include "accounting/keys.h"
#include "store/accounting_store.h"
#include "wire/builder.h"

namespace {

using namespace jembatan;
using namespace std::chrono_literals;

constexpr std::size_t kBatch = 8192;
constexpr std::uint64_t kUsers = 20000;
constexpr auto kInterval = 20min;  // between the records of a session

struct Filling {
  std::uint64_t records;
  std::chrono::milliseconds between;  // one record and the next
  WallTime begin;
};

// Sessions of four records: each begins, tells twice what it used, and ends, while others do the same.
accounting::Incoming record(const Filling& filling, std::uint64_t number) {
  constexpr std::array kStatus{1U, 3U, 3U, 2U};
  const auto open = std::max<std::uint64_t>(1, static_cast<std::uint64_t>(kInterval / filling.between));
  const std::uint64_t round = number / (open * kStatus.size());
  const auto step = static_cast<std::uint32_t>(number / open % kStatus.size());
  const std::uint64_t session = round * open + number % open;
  const WallTime at = filling.begin + filling.between * static_cast<std::int64_t>(number);
  wire::PacketBuilder packet(wire::Code::accounting_request, 0, {});
  const auto add = [&](wire::AttributeType type, std::uint32_t value) {
    std::array<std::uint8_t, 4> word{};
    store32(word.data(), value);
    (void)packet.add(type, OctetView(word));
  };
  add(wire::AttributeType::acct_status_type, kStatus[step]);
  (void)packet.add(wire::AttributeType::acct_session_id, std::string_view(std::to_string(session)));
  const std::uint64_t user = (session * 2654435761U) % kUsers;
  (void)packet.add(wire::AttributeType::user_name,
                   std::string_view("user-" + std::to_string(user) + "@reef.example"));
  (void)packet.add(wire::AttributeType::nas_identifier,
                   std::string_view("kerapu-deck-" + std::to_string(session % 50)));
  add(wire::AttributeType::nas_port, static_cast<std::uint32_t>(session % 48));
  (void)packet.add(wire::AttributeType::calling_station_id, std::string_view("02-00-5E-00-53-01"));
  add(wire::AttributeType::event_timestamp,
      static_cast<std::uint32_t>(std::chrono::system_clock::to_time_t(at)));
  const auto lasts = static_cast<std::uint32_t>(step * kInterval / 1s);
  add(wire::AttributeType::acct_session_time, lasts);
  add(wire::AttributeType::acct_input_octets, lasts * 900);
  add(wire::AttributeType::acct_output_octets, lasts * 300);
  const OctetSpan octets = packet.finish();
  auto arrival = accounting::arrival_of(*wire::PacketView::parse(octets),
                                        {"kerapu", *IpAddress::parse("192.0.2.1")}, "reef.example", at);
  arrival->id = static_cast<std::int64_t>(number) + 1;
  return {std::move(*arrival), true, {}};
}

int failed(const Error& error) {
  std::fprintf(stderr, "%s\n", error.text.c_str());
  return 1;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 4) return 2;
  const auto count = static_cast<std::uint64_t>(std::atoll(argv[2]));
  const auto lasts = std::chrono::hours(24 * std::atoi(argv[3]));
  const WallTime until = std::chrono::floor<std::chrono::days>(std::chrono::system_clock::now());
  const Filling filling{count,
                        std::max(1ms, std::chrono::milliseconds(lasts) / static_cast<std::int64_t>(count)),
                        until - lasts};
  auto opened = store::AccountingStore::open(argv[1]);
  if (!opened) return failed(opened.error());
  accounting::Store& store = **opened;
  auto began = std::chrono::steady_clock::now();
  std::uint64_t since = 0;
  for (std::uint64_t at = 0; at < count;) {
    std::vector<accounting::Incoming> batch;
    for (; batch.size() < kBatch && at < count; ++at) batch.push_back(record(filling, at));
    if (const Status done = store.fill(batch); !done) return failed(done.error());
    const auto tidied = store.tidy(batch.back().arrival.received, {});
    if (!tidied) return failed(tidied.error());
    since += batch.size();
    if (since < 1000000 && at < count) continue;
    if (const Status settled = store.settle(); !settled) return failed(settled.error());
    const std::chrono::duration<double> took = std::chrono::steady_clock::now() - began;
    rusage used{};
    getrusage(RUSAGE_SELF, &used);
    std::printf("%10llu records: %8.0f a second, %ld MiB at most\n", static_cast<unsigned long long>(at),
                static_cast<double>(since) / took.count(), used.ru_maxrss / 1024);
    std::fflush(stdout);
    began = std::chrono::steady_clock::now();
    since = 0;
  }
  return 0;
}
