#pragma once
// The API's calls about accounting: records, where they went, sessions, queues. docs/openapi.yaml describes
// them.
#include "admin/asked.h"

namespace jembatan::admin {

/// Where a record went and where it has still to go, a line each: "sent to reef-records: reef-1 acknowledged
/// after 9ms".
std::vector<std::string> way_of_record(const Asked& asked, std::int64_t id);

void list_sessions(const Asked& asked);
void list_records(const Asked& asked);
void show_record(const Asked& asked);
void show_queue(const Asked& asked);
void redirect_queue(const Asked& asked);
void show_accounting_store(const Asked& asked);
void show_usage(const Asked& asked);
void show_ledger_hours(const Asked& asked);
void show_ledger_slots(const Asked& asked);
void show_ledger_entries(const Asked& asked);
void show_ledger_late(const Asked& asked);

}  // namespace jembatan::admin
