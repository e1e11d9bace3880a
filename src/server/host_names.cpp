#include "server/host_names.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "server/log.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

constexpr Duration kShortest = 30s;  // between two questions for one name
constexpr Duration kLongest = 1h;
constexpr Duration kWithoutTtl = 60s;  // what stands in the hosts file has none

std::string text_of(const std::vector<IpAddress>& addresses) {
  std::vector<std::string> out;
  for (const IpAddress& address : addresses) out.push_back(address.text());
  return join(out, ", ");
}

}  // namespace

Result<std::vector<IpAddress>> HostNames::addresses_of(const std::string& host) {
  auto found = look_up_(host);
  const std::lock_guard lock(mutex_);
  (void)note(host, found);
  if (found) return std::move(found->addresses);
  const auto known = known_.find(host);
  if (known == known_.end()) return found.error();
  return known->second.addresses;
}

Result<std::vector<IpAddress>> HostNames::known_addresses_of(const std::string& host) {
  const std::lock_guard lock(mutex_);
  const auto known = known_.find(host);
  if (known == known_.end()) return fail(Errc::not_found, fmt::format("host name '{}': not known", host));
  return known->second.addresses;
}

// True if it is one of the plan's, and has other addresses than before. What has others each time is asked
// for less and less often.
bool HostNames::note(const std::string& host, const Result<host::FoundAddresses>& found) {
  const auto known = known_.find(host);
  if (known == known_.end()) return false;
  Known& name = known->second;
  const TimePoint now = clock_.now().steady;
  if (!found) {
    name.due = now + kWithoutTtl;
    if (!std::exchange(name.warned, true))
      log_warning(fmt::format("{}; its last known addresses are used: {}", found.error().text,
                              text_of(name.addresses)));
    return false;
  }
  if (std::exchange(name.warned, false)) log_info(fmt::format("host name '{}' can be looked up again", host));
  const bool moved = name.addresses != found->addresses;
  name.pause = moved ? std::clamp<Duration>(2 * name.pause, kShortest, kLongest) : kShortest;
  const Duration lives = found->lives > 0s ? Duration(found->lives) : kWithoutTtl;
  name.due = now + std::clamp(lives, name.pause, kLongest);
  name.addresses = found->addresses;
  return moved;
}

void HostNames::remember(const std::string& host, std::vector<IpAddress> addresses) {
  const auto [known, is_new] = known_.try_emplace(host);
  known->second.in_plan = true;
  if (!is_new) return;
  known->second.addresses = std::move(addresses);
  known->second.due = clock_.now().steady + kShortest;
}

void HostNames::remember(const plan::Plan& plan) {
  const std::lock_guard lock(mutex_);
  for (auto& [host, known] : known_) known.in_plan = false;
  for (const plan::Client& client : plan.clients) {
    if (!client.host.empty() && client.address.length > 0) remember(client.host, {client.address.address});
  }
  for (const plan::Group& group : plan.groups) {
    std::map<std::string, std::vector<IpAddress>> hosts;
    for (const plan::Server& server : group.servers) {
      if (!server.host.empty() && !server.address.unspecified()) hosts[server.host].push_back(server.address);
    }
    for (auto& [host, addresses] : hosts) remember(host, std::move(addresses));
  }
  std::erase_if(known_, [](const auto& one) { return !one.second.in_plan; });
}

bool HostNames::look_again() {
  std::vector<std::string> due;
  {
    const std::lock_guard lock(mutex_);
    for (const auto& [host, known] : known_)
      if (known.due <= clock_.now().steady) due.push_back(host);
  }
  bool moved = false;
  for (const std::string& host : due) {
    const auto found = look_up_(host);
    const std::lock_guard lock(mutex_);
    moved = note(host, found) || moved;
  }
  return moved;
}

std::optional<TimePoint> HostNames::next_due() const {
  const std::lock_guard lock(mutex_);
  std::optional<TimePoint> out;
  for (const auto& [host, known] : known_) out = out ? std::min(*out, known.due) : known.due;
  return out;
}

}  // namespace jembatan::server
