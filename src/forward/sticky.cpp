#include "forward/sticky.h"

#include <cctype>
#include <cmath>

#include "base/text_hash.h"

namespace jembatan::forward {

namespace {

// Letter case does not matter.
std::uint64_t number_of_user(std::string_view user) {
  std::string folded(user);
  for (char& letter : folded) letter = static_cast<char>(std::tolower(static_cast<unsigned char>(letter)));
  return stable_number(folded);
}

// 00-11-22-AA, 0011.22aa and 00:11:22:AA are one station.
std::uint64_t number_of_station(std::string_view station) {
  std::string plain;
  for (const char letter : station) {
    const auto octet = static_cast<unsigned char>(letter);
    if (std::isalnum(octet) != 0) plain.push_back(static_cast<char>(std::tolower(octet)));
  }
  return stable_number(plain.empty() ? station : std::string_view(plain));
}

}  // namespace

std::uint64_t tie_of(plan::Sticky sticky, const Ties& ties) {
  switch (sticky) {
    case plan::Sticky::no:
      return 0;
    case plan::Sticky::session:
      if (!ties.session.empty())
        return mixed_number(stable_number(ties.client) ^ stable_number(ties.session));
      [[fallthrough]];
    case plan::Sticky::station:
      if (!ties.station.empty()) return number_of_station(ties.station);
      [[fallthrough]];
    case plan::Sticky::user:
      return ties.user.empty() ? 0 : number_of_user(ties.user);
  }
  return 0;
}

// Each server draws a time by chance, the heavier the shorter: -ln(u) / weight. The earliest has it. As
// -ln(u) is never less than 1 - u, most logarithms need not be taken.
std::size_t rendezvous(const Candidates& of, const Members& members, std::uint16_t slot, TimePoint now) {
  const std::uint64_t number = mixed_number(slot + 1U);
  const std::vector<plan::Server>& servers = of.group.servers;
  std::optional<std::size_t> first;
  double earliest = 0;
  for (const bool even : {false, true}) {
    for (std::size_t i = 0; i < servers.size(); ++i) {
      if (!members[i]) continue;
      const double weight =
          (even ? 1.0 : servers[i].weight) / servers[i].of_its_entry * of.health[i]->warmth(of.group, now);
      if (weight <= 0) continue;
      const std::uint64_t hash = mixed_number(number ^ servers[i].number);
      const double chance = (static_cast<double>(hash >> 11U) + 0.5) / 9007199254740992.0;  // 2^53
      if (first && 1 - chance >= earliest * weight) continue;
      const double time = -std::log(chance) / weight;
      if (first && time >= earliest) continue;
      first = i;
      earliest = time;
    }
    if (first) break;
  }
  return *first;
}

}  // namespace jembatan::forward
