#pragma once
// Asks for the addresses of host names: the hosts file, then DNS.
#include <atomic>
#include <chrono>
#include <string>
#include <vector>

#include "base/ip.h"
#include "base/result.h"

namespace jembatan::host {

struct FoundAddresses {
  std::vector<IpAddress> addresses;  ///< IPv4 first, then by number: the order of answers does not matter
  std::chrono::seconds lives{0};     ///< the shortest TTL of them (RFC 1035 §3.2.1); 0: it has none
};

struct LookUpBy {
  std::string name_servers;                     ///< "127.0.0.1:5353,…"; empty: those of the system
  const std::atomic<bool>* given_up = nullptr;  ///< ends it early when it becomes true
};

/// Every address of a host name that a route leads to; if there is none to any, every address. Blocks for
/// some seconds at most: never called on a network thread.
///   errors  Errc::not_found with what the name servers say
Result<FoundAddresses> look_up(const std::string& host, const LookUpBy& by = {});

}  // namespace jembatan::host
