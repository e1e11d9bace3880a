// A ledger file of another company.
#include <cstdlib>

#include "accounting/ledger_file.h"
#include "accounting/reconcile.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jembatan;
  const auto read = accounting::read_ledger(text_of(OctetView(data, size)));
  if (!read) return 0;
  std::string again = accounting::heading_text(read->heading);
  for (const accounting::Entry& one : read->entries) again += accounting::line_of(one);
  again += accounting::ending_text(read->entries.size());
  const auto back = accounting::read_ledger(again);
  if (!back || back->entries.size() != read->entries.size()) std::abort();
  accounting::LedgerAtHand here(read->entries);
  accounting::LedgerAtHand there(back->entries);
  const auto found = accounting::reconcile(here, there);
  if (!found || !found->only_here.empty() || !found->only_there.empty()) std::abort();
  return 0;
}
