#pragma once
// The API's calls about secrets, tokens, and the record of who did what.
#include "admin/asked.h"

namespace jembatan::admin {

/// What cannot be put on record does not happen: false, with a problem answered.
bool put_on_record(const Asked& asked, const revision::AuditEntry& entry);

/// Whoever calls from now on is known by the tokens that are in force now.
Status know_tokens(revision::Archive& archive, Callers& callers);

void peer_secret(const Asked& asked);
void list_rotations(const Asked& asked);
void show_audit(const Asked& asked);
void list_tokens(const Asked& asked);
void create_token(const Asked& asked);
void revoke_token(const Asked& asked);

}  // namespace jembatan::admin
