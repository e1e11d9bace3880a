#include "cli/capture_file.h"

#include <fmt/format.h>
#include <pcap/pcap.h>

#include <memory>
#include <optional>

namespace jembatan::cli {
namespace {

constexpr std::uint8_t kUdp = 17;
constexpr std::size_t kUdpHeader = 8;

// The IP packet inside a frame; nothing if it is another protocol.
std::optional<OctetView> ip_in(OctetView frame, int link) {
  const auto behind = [&](std::size_t head) -> std::optional<OctetView> {
    if (frame.size() <= head) return std::nullopt;
    return frame.subspan(head);
  };
  switch (link) {
    case DLT_EN10MB: {
      std::size_t type_at = 12;
      while (frame.size() >= type_at + 6 &&
             (load16(&frame[type_at]) == 0x8100 || load16(&frame[type_at]) == 0x88A8))
        type_at += 4;
      if (frame.size() < type_at + 2) return std::nullopt;
      const std::uint16_t type = load16(&frame[type_at]);
      return type == 0x0800 || type == 0x86DD ? behind(type_at + 2) : std::nullopt;
    }
    case DLT_LINUX_SLL:
      return behind(16);
    case DLT_LINUX_SLL2:
      return behind(20);
    case DLT_NULL:
    case DLT_LOOP:
      return behind(4);
    case DLT_RAW:
    case DLT_IPV4:
    case DLT_IPV6:
      return behind(0);
    default:
      return std::nullopt;
  }
}

bool udp_in(OctetView segment, Captured& out) {
  if (segment.size() < kUdpHeader) return false;
  const std::size_t length = load16(&segment[4]);
  if (length < kUdpHeader || length > segment.size()) return false;
  out.from.port = load16(&segment[0]);
  out.to.port = load16(&segment[2]);
  out.octets.assign(segment.begin() + kUdpHeader, segment.begin() + static_cast<std::ptrdiff_t>(length));
  return true;
}

}  // namespace

bool datagram_in(OctetView ip, Captured& out) {
  if (ip.size() >= 20 && ip[0] >> 4U == 4) {
    const std::size_t header = 4U * (ip[0] & 15U);
    const std::size_t length = load16(&ip[2]);
    const bool fragment = (load16(&ip[6]) & 0x3FFFU) != 0;
    if (header < 20 || length < header || length > ip.size() || fragment || ip[9] != kUdp) return false;
    out.from.address = IpAddress::from_v4(&ip[12]);
    out.to.address = IpAddress::from_v4(&ip[16]);
    return udp_in(ip.subspan(header, length - header), out);
  }
  if (ip.size() >= 40 && ip[0] >> 4U == 6) {
    const std::size_t length = load16(&ip[4]);
    if (ip[6] != kUdp || length > ip.size() - 40) return false;
    out.from.address = IpAddress::from_v6(&ip[8]);
    out.to.address = IpAddress::from_v6(&ip[24]);
    return udp_in(ip.subspan(40, length), out);
  }
  return false;
}

Result<CaptureContents> read_capture(const std::string& path) {
  char problem[PCAP_ERRBUF_SIZE] = "";
  const std::unique_ptr<pcap_t, decltype(&pcap_close)> file(pcap_open_offline(path.c_str(), problem),
                                                            &pcap_close);
  if (!file) return fail(Errc::io, fmt::format("capture file '{}': {}", path, problem));
  const int link = pcap_datalink(file.get());
  CaptureContents out;
  pcap_pkthdr* header = nullptr;
  const unsigned char* octets = nullptr;
  int result = 0;
  while ((result = pcap_next_ex(file.get(), &header, &octets)) == 1) {
    Captured captured;
    captured.frame = ++out.frames;
    captured.at = std::chrono::system_clock::from_time_t(header->ts.tv_sec) +
                  std::chrono::microseconds(header->ts.tv_usec);
    const auto ip = ip_in({octets, header->caplen}, link);
    if (ip && datagram_in(*ip, captured)) {
      out.datagrams.push_back(std::move(captured));
    } else {
      ++out.passed_over;
    }
  }
  if (result == PCAP_ERROR)
    return fail(Errc::malformed, fmt::format("capture file '{}': {}", path, pcap_geterr(file.get())));
  return out;
}

}  // namespace jembatan::cli
