#pragma once
// The API's calls about the journal.
#include "admin/asked.h"

namespace jembatan::admin {

void search_journal(const Asked& asked);
void show_journal_entry(const Asked& asked);
/// Rejected passwords of one user: `start` is put on record, `show` gives what was seen since.
void start_unmask(const Asked& asked);
void show_unmask(const Asked& asked);

}  // namespace jembatan::admin
