#include "accounting/memory.h"

#include <algorithm>

namespace jembatan::accounting {

Result<Memory> remembered(Store& store, Inbox& inbox, std::size_t most) {
  const auto in_store = store.last();
  if (!in_store) return in_store.error();
  Memory out{KnownRecords(most), *in_store};
  const std::size_t to_read = most / 4;  // a start does not wait for all
  const auto newest = store.newest(to_read);
  if (!newest) return newest.error();
  if (newest->size() == to_read && to_read > 0) out.known.begin_after(newest->front().received);
  for (const Arrival& one : *newest) out.known.add(one);
  while (true) {
    constexpr std::size_t kAtOnce = 10000;
    const auto waiting = inbox.behind(out.last, kAtOnce);
    if (!waiting) return waiting.error();
    if (waiting->empty()) return out;
    for (const Incoming& one : *waiting) out.known.add(one.arrival);
    out.last = waiting->back().arrival.id;
  }
}

}  // namespace jembatan::accounting
