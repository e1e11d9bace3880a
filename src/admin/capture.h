#pragma once
// The node's traffic as a capture file.
#include <set>
#include <string>

#include "plan/plan.h"
#include "server/tap.h"

namespace jembatan::admin {

/// The head of a pcap file whose frames are IP packets.
std::string capture_head();
/// One datagram as a frame: IPv4 or IPv6, UDP, with right addresses, ports and checksums.
std::string capture_frame(const server::Tapped& tapped);

/// Which datagrams are wanted: those of one client, or those about one user (requests with this User-Name and
/// what answers them). Empty names want all.
class CaptureFilter {
 public:
  CaptureFilter(const plan::Client* client, std::string user);
  bool wants(const server::Tapped& tapped);

 private:
  bool about_user(const server::Tapped& tapped);
  const plan::Client* client_;
  std::string user_;
  std::set<std::tuple<Endpoint, Endpoint, std::uint8_t>>
      asked_;  // requests about the user that await an answer
};

}  // namespace jembatan::admin
