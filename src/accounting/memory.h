#pragma once
#include "accounting/known_records.h"
#include "accounting/store.h"

namespace jembatan::accounting {

/// What a node knows when it starts: the newest records, and the last number that was given.
struct Memory {
  KnownRecords known;
  std::int64_t last = 0;
};
/// From the store, and what the inbox has behind it.
///   errors  Errc::io
Result<Memory> remembered(Store& store, Inbox& inbox, std::size_t most);

}  // namespace jembatan::accounting
