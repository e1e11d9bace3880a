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

std::string list_of(const std::vector<IpAddress>& addresses) {
  std::vector<std::string> out;
  for (const IpAddress& address : addresses) out.push_back(address.text());
  return join(out, ", ");
}

// The host names of a plan with the addresses that they have in it: a client has one of them, a server all.
std::map<std::string, std::vector<IpAddress>> hosts_of(const plan::Plan& plan) {
  std::map<std::string, std::vector<IpAddress>> out;
  for (const plan::Group& group : plan.groups) {
    for (const plan::Server& server : group.servers) {
      if (server.host.empty() || server.address.unspecified()) continue;
      auto& addresses = out[server.host];
      if (std::find(addresses.begin(), addresses.end(), server.address) == addresses.end())
        addresses.push_back(server.address);
    }
  }
  for (const plan::Client& client : plan.clients) {
    if (!client.host.empty() && client.address.length > 0)
      out.try_emplace(client.host, std::vector{client.address.address});
  }
  return out;
}

}  // namespace

// No more addresses than a plan takes of a name.
Result<host::FoundAddresses> HostNames::ask_for(const std::string& host) const {
  auto found = look_up_(host);
  if (found && found->addresses.size() > plan::kMostAddresses) found->addresses.resize(plan::kMostAddresses);
  return found;
}

Result<std::vector<IpAddress>> HostNames::addresses_of(const std::string& host) {
  auto found = ask_for(host);
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
                              list_of(name.addresses)));
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

// A plan that was written elsewhere may have other addresses than were found here: that is looked at soon.
void HostNames::remember(const plan::Plan& plan) {
  const std::lock_guard lock(mutex_);
  const auto hosts = hosts_of(plan);
  std::erase_if(known_, [&hosts](const auto& one) { return !hosts.contains(one.first); });
  const TimePoint soon = clock_.now().steady + kShortest;
  for (const auto& [host, addresses] : hosts) {
    const auto [known, is_new] = known_.try_emplace(host);
    if (!is_new && known->second.addresses == addresses) continue;
    known->second.addresses = addresses;
    known->second.due = is_new ? soon : std::min(known->second.due, soon);
  }
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
    const auto found = ask_for(host);
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
