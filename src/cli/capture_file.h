#pragma once
// Packets in a capture file of any packet analyser.
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/ip.h"

namespace jembatan::cli {

struct Captured {
  std::size_t frame = 0;  ///< number in the file, from 1
  WallTime at;
  Endpoint from;
  Endpoint to;
  Octets octets;  ///< what the UDP datagram carried
};

struct CaptureContents {
  std::vector<Captured> datagrams;
  std::size_t frames = 0;
  std::size_t passed_over = 0;  ///< frames without a whole UDP datagram
};

/// Reads a pcap or pcapng file: Ethernet (also with VLAN tags), Linux cooked, raw IP and loopback frames; UDP
/// over IPv4 and IPv6. Fragments are passed over.
///   errors  Errc::io, Errc::malformed: with the library's reason
Result<CaptureContents> read_capture(const std::string& path);

/// The UDP datagram inside an IP packet, if it is one and whole.
bool datagram_in(OctetView ip, Captured& out);

}  // namespace jembatan::cli
