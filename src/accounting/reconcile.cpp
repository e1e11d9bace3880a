#include "accounting/reconcile.h"

#include <algorithm>

namespace jembatan::accounting {
namespace {

using Entries = std::vector<Entry>;

std::uint64_t count_of(const std::map<Hour, Sum>& hours) {
  std::uint64_t out = 0;
  for (const auto& [hour, sum] : hours) out += sum.count;
  return out;
}

std::vector<Hour> hours_that_differ(const std::map<Hour, Sum>& a, const std::map<Hour, Sum>& b) {
  std::vector<Hour> out;
  for (const auto& [hour, sum] : a) {
    const auto other = b.find(hour);
    if (other == b.end() || other->second != sum) out.push_back(hour);
  }
  for (const auto& [hour, sum] : b)
    if (a.find(hour) == a.end()) out.push_back(hour);
  return out;
}

std::vector<Place> places_that_differ(const std::map<Hour, SlotSums>& a, const std::map<Hour, SlotSums>& b,
                                      const std::vector<Hour>& hours) {
  static const SlotSums kNone{};
  const auto of = [](const std::map<Hour, SlotSums>& sums, Hour hour) -> const SlotSums& {
    const auto found = sums.find(hour);
    return found == sums.end() ? kNone : found->second;
  };
  std::vector<Place> out;
  for (const Hour hour : hours) {
    for (std::size_t slot = 0; slot < kSlots; ++slot)
      if (of(a, hour)[slot] != of(b, hour)[slot]) out.push_back({hour, slot});
  }
  return out;
}

void by_digest(Entries& entries) {
  std::sort(entries.begin(), entries.end(), [](const Entry& a, const Entry& b) {
    return std::tie(a.digest, a.event_time, a.id) < std::tie(b.digest, b.event_time, b.id);
  });
}

void by_time(Entries& entries) {
  std::sort(entries.begin(), entries.end(), [](const Entry& a, const Entry& b) {
    return std::tie(a.event_time, a.id) < std::tie(b.event_time, b.id);
  });
}

// The entries that begin at a place and have one digest.
std::span<const Entry> alike_at(const Entries& entries, std::size_t at) {
  std::size_t end = at;
  while (end < entries.size() && entries[end].digest == entries[at].digest) ++end;
  return std::span(entries).subspan(at, end - at);
}

void put_all(Entries& to, std::span<const Entry> what) {
  to.insert(to.end(), what.begin(), what.end());
}

struct Pairing {
  Findings& out;
  std::vector<Differing> same;

  // Those with one digest on both sides; of each more than the other has, one is enough.
  void alike(std::span<const Entry> here, std::span<const Entry> there) {
    const std::size_t both = std::min(here.size(), there.size());
    for (std::size_t i = 0; i < both; ++i) same.push_back({here[i], there[i]});
    const std::size_t one = both == 0 ? 1 : both;
    if (here.size() > one) put_all(out.double_here, here.subspan(one));
    if (there.size() > one) put_all(out.double_there, there.subspan(one));
    if (both > 0) return;
    if (!here.empty()) out.only_here.push_back(here.front());
    if (!there.empty()) out.only_there.push_back(there.front());
  }

  void all(Entries here, Entries there) {
    by_digest(here);
    by_digest(there);
    for (std::size_t i = 0, j = 0; i < here.size() || j < there.size();) {
      const bool left = j == there.size() || (i < here.size() && here[i].digest <= there[j].digest);
      const bool right = i == here.size() || (j < there.size() && there[j].digest <= here[i].digest);
      const auto of_here = left ? alike_at(here, i) : std::span<const Entry>();
      const auto of_there = right ? alike_at(there, j) : std::span<const Entry>();
      alike(of_here, of_there);
      i += of_here.size();
      j += of_there.size();
    }
  }

  // What one side alone has and the other has otherwise.
  void by_key() {
    std::multimap<Digest, Entry> there;
    for (const Entry& one : out.only_there) there.emplace(one.key, one);
    std::erase_if(out.only_here, [&](const Entry& one) {
      const auto found = there.find(one.key);
      if (found == there.end()) return false;
      out.different.push_back({one, found->second});
      there.erase(found);
      return true;
    });
    out.only_there.clear();
    for (auto& [key, one] : there) out.only_there.push_back(one);
  }
};

// Of what was sent and acknowledged by the clock here, and received by the clock there in between: the
// narrowest.
std::optional<ClockGap> gap_of(std::span<const Differing> same) {
  std::optional<ClockGap> out;
  for (const auto& [here, there] : same) {
    if (!here.sent || !here.acknowledged || *here.acknowledged < *here.sent) continue;
    const auto half =
        std::max(Duration(1), std::chrono::ceil<Duration>((*here.acknowledged - *here.sent) / 2));
    if (out && out->give_or_take <= half) continue;
    out = ClockGap{std::chrono::round<Duration>(there.received - *here.sent) - half, half};
  }
  return out;
}

// Where both agree: some records of the last such hour, for the clocks.
Result<std::vector<Place>> sample(Ledger& here, const std::map<Hour, Sum>& hours,
                                  const std::vector<Hour>& differ) {
  for (auto at = hours.rbegin(); at != hours.rend(); ++at) {
    if (std::find(differ.begin(), differ.end(), at->first) != differ.end()) continue;
    const auto slots = here.slots(std::span(&at->first, 1));
    if (!slots) return slots.error();
    for (std::size_t slot = 0; slots->count(at->first) > 0 && slot < kSlots; ++slot)
      if (slots->at(at->first)[slot].count > 0) return std::vector<Place>{{at->first, slot}};
  }
  return std::vector<Place>{};
}

}  // namespace

bool Findings::agree() const {
  return only_here.empty() && only_there.empty() && double_here.empty() && double_there.empty() &&
         different.empty() && late_here.count == 0 && late_there.count == 0;
}

Result<Findings> reconcile(Ledger& here, Ledger& there, const ReconcileWish& wish) {
  Findings out;
  const auto hours_here = here.hours();
  if (!hours_here) return hours_here.error();
  const auto hours_there = there.hours();
  if (!hours_there) return hours_there.error();
  out.records_here = count_of(*hours_here);
  out.records_there = count_of(*hours_there);

  const std::vector<Hour> hours = hours_that_differ(*hours_here, *hours_there);
  const auto slots_here = here.slots(hours);
  if (!slots_here) return slots_here.error();
  const auto slots_there = there.slots(hours);
  if (!slots_there) return slots_there.error();
  std::vector<Place> places = places_that_differ(*slots_here, *slots_there, hours);
  const auto more = sample(here, *hours_here, hours);
  if (!more) return more.error();
  places.insert(places.end(), more->begin(), more->end());

  auto entries_here = here.entries(places);
  if (!entries_here) return entries_here.error();
  auto entries_there = there.entries(places);
  if (!entries_there) return entries_there.error();
  Pairing pairing{out, {}};
  pairing.all(std::move(*entries_here), std::move(*entries_there));
  pairing.by_key();
  for (Entries* all : {&out.only_here, &out.only_there, &out.double_here, &out.double_there}) by_time(*all);
  std::sort(out.different.begin(), out.different.end(), [](const Differing& a, const Differing& b) {
    return std::tie(a.here.event_time, a.here.id) < std::tie(b.here.event_time, b.here.id);
  });
  out.clocks = gap_of(pairing.same);

  if (!wish.late) return out;
  for (const auto& [ledger, late] : {std::pair(&here, &out.late_here), std::pair(&there, &out.late_there)}) {
    auto found = ledger->late(*wish.late, wish.most_late);
    if (!found) return found.error();
    *late = std::move(*found);
  }
  return out;
}

}  // namespace jembatan::accounting
