#include "accounting/packed.h"

#include <zlib.h>

#include <algorithm>

#include "base/compact.h"

namespace jembatan::accounting {
namespace {

constexpr std::size_t kChecksum = 4;
constexpr std::size_t kLeastOfRecord = 40;  // octets
constexpr std::uint64_t kKeep = 1;
constexpr std::uint64_t kTakenOver = 2;

// Against damage, not against people.
std::array<std::uint8_t, kChecksum> checksum_of(OctetView octets) {
  std::array<std::uint8_t, kChecksum> out;
  store32(out.data(), static_cast<std::uint32_t>(crc32_z(0, octets.data(), octets.size())));
  return out;
}

void pack(const Incoming& one, CompactWriter& to) {
  const Arrival& arrival = one.arrival;
  to.number(static_cast<std::uint64_t>(arrival.id));
  to.moment(arrival.received);
  to.moment(arrival.event_time);
  to.text(arrival.client);
  to.text(arrival.source.text());
  to.text(arrival.realm);
  to.octets(arrival.attributes);
  to.octets(arrival.key);
  to.octets(arrival.digest);
  to.number((one.keep ? kKeep : 0) | (one.taken_over ? kTakenOver : 0));
  to.number(one.groups.size());
  for (const std::string& group : one.groups) to.text(group);
}

void take(Digest& to, OctetView octets, CompactReader& from) {
  if (octets.size() != to.size()) return from.fail();
  std::copy(octets.begin(), octets.end(), to.begin());
}

Incoming unpack(CompactReader& from) {
  Incoming out;
  Arrival& arrival = out.arrival;
  arrival.id = static_cast<std::int64_t>(from.number());
  arrival.received = from.moment();
  arrival.event_time = from.moment();
  arrival.client = from.text();
  if (const auto source = IpAddress::parse(std::string(from.text()))) arrival.source = *source;
  arrival.realm = from.text();
  const OctetView attributes = from.octets();
  arrival.attributes.assign(attributes.begin(), attributes.end());
  take(arrival.key, from.octets(), from);
  take(arrival.digest, from.octets(), from);
  const std::uint64_t how = from.number();
  out.keep = (how & kKeep) != 0;
  out.taken_over = (how & kTakenOver) != 0;
  for (std::uint64_t left = from.number(); left > 0 && from.ok(); --left)
    out.groups.emplace_back(from.text());
  return out;
}

}  // namespace

Octets packed(std::span<const Incoming> records) {
  Octets out(kChecksum);
  CompactWriter to(out);
  to.number(records.size());
  for (const Incoming& one : records) pack(one, to);
  const auto sum = checksum_of(OctetView(out).subspan(kChecksum));
  std::copy(sum.begin(), sum.end(), out.begin());
  return out;
}

Result<std::vector<Incoming>> unpacked(OctetView octets) {
  const auto damaged = [] { return fail(Errc::malformed, "records that cannot be read"); };
  if (octets.size() <= kChecksum) return damaged();
  const OctetView body = octets.subspan(kChecksum);
  const auto sum = checksum_of(body);
  if (!std::equal(sum.begin(), sum.end(), octets.begin())) return damaged();
  CompactReader from(body);
  const std::uint64_t count = from.number();
  std::vector<Incoming> out;
  out.reserve(std::min<std::uint64_t>(count, body.size() / kLeastOfRecord));
  for (std::uint64_t i = 0; i < count && from.ok(); ++i) out.push_back(unpack(from));
  if (!from.ok() || !from.at_end()) return damaged();
  return out;
}

}  // namespace jembatan::accounting
