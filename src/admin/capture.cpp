#include "admin/capture.h"

#include "base/text.h"
#include "wire/packet.h"

namespace jembatan::admin {
namespace {

constexpr std::uint32_t kMagic = 0xA1B2C3D4;
constexpr std::uint32_t kRawIp = 101;  // link type: frames begin with the IP header
constexpr std::uint32_t kLongestFrame = 65535;
constexpr std::size_t kMostAsked = 10000;

void put32(std::string& out, std::uint32_t value) {
  std::uint8_t octets[4];
  store32(octets, value);
  out += text_of(OctetView(octets));
}

void put16(Octets& out, std::size_t value) {
  out.push_back(static_cast<std::uint8_t>(value >> 8U));
  out.push_back(static_cast<std::uint8_t>(value));
}

// RFC 1071.
std::uint16_t checksum(std::initializer_list<OctetView> parts) {
  std::uint32_t sum = 0;
  for (const OctetView part : parts) {
    for (std::size_t i = 0; i < part.size(); i += 2) {
      sum += static_cast<std::uint32_t>(part[i] << 8U) | (i + 1 < part.size() ? part[i + 1] : 0U);
    }
  }
  while (sum >> 16U != 0) sum = (sum & 0xFFFFU) + (sum >> 16U);
  return static_cast<std::uint16_t>(~sum);
}

Octets udp_of(const server::Tapped& tapped) {
  Octets out;
  put16(out, tapped.from.port);
  put16(out, tapped.to.port);
  put16(out, 8 + tapped.octets.size());
  put16(out, 0);
  append(out, tapped.octets);
  Octets pseudo(tapped.from.address.view().begin(), tapped.from.address.view().end());
  append(pseudo, tapped.to.address.view());
  put16(pseudo, out.size());
  put16(pseudo, 17);
  const std::uint16_t sum = checksum({pseudo, out});
  store16(&out[6], sum == 0 ? 0xFFFF : sum);
  return out;
}

Octets ip_of(const server::Tapped& tapped) {
  const Octets udp = udp_of(tapped);
  Octets out;
  if (tapped.from.address.family == Family::v4) {
    out = {0x45, 0};
    put16(out, 20 + udp.size());
    append(out, Octets{0, 0, 0x40, 0, 64, 17, 0, 0});
    append(out, tapped.from.address.view());
    append(out, tapped.to.address.view());
    store16(&out[10], checksum({out}));
  } else {
    out = {0x60, 0, 0, 0};
    put16(out, udp.size());
    append(out, Octets{17, 64});
    append(out, tapped.from.address.view());
    append(out, tapped.to.address.view());
  }
  append(out, udp);
  return out;
}

}  // namespace

std::string capture_head() {
  std::string out;
  put32(out, kMagic);
  put32(out, 2U << 16U | 4U);
  put32(out, 0);
  put32(out, 0);
  put32(out, kLongestFrame);
  put32(out, kRawIp);
  return out;
}

std::string capture_frame(const server::Tapped& tapped) {
  using std::chrono::duration_cast;
  const auto since = duration_cast<std::chrono::microseconds>(tapped.at.time_since_epoch()).count();
  const Octets ip = ip_of(tapped);
  std::string out;
  put32(out, static_cast<std::uint32_t>(since / 1000000));
  put32(out, static_cast<std::uint32_t>(since % 1000000));
  put32(out, static_cast<std::uint32_t>(ip.size()));
  put32(out, static_cast<std::uint32_t>(ip.size()));
  return out.append(text_of(ip));
}

CaptureFilter::CaptureFilter(const plan::Client* client, std::string user)
    : client_(client), user_(lower(user)) {}

bool CaptureFilter::wants(const server::Tapped& tapped) {
  const bool of_client = client_ == nullptr || client_->address.contains(tapped.from.address) ||
                         client_->address.contains(tapped.to.address);
  return of_client && (user_.empty() || about_user(tapped));
}

bool CaptureFilter::about_user(const server::Tapped& tapped) {
  const auto packet = wire::PacketView::parse(tapped.octets);
  if (!packet) return false;
  if (wire::is_reply(packet->code())) return asked_.contains({tapped.to, tapped.from, packet->identifier()});
  const std::tuple key{tapped.from, tapped.to, packet->identifier()};
  asked_.erase(key);
  if (lower(text_in(packet->find(wire::AttributeType::user_name))) != user_) return false;
  if (asked_.size() < kMostAsked) asked_.insert(key);
  return true;
}

}  // namespace jembatan::admin
