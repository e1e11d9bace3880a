#pragma once
// The API's calls about the plan, its secrets, and who may change it.
#include <httplib.h>

#include "server/server.h"

namespace jembatan::admin {

/// One call, being answered.
struct Asked {
  server::Server& server;
  const revision::Author& caller;
  const httplib::Request& request;
  httplib::Response& response;
};

void reload_plan(const Asked& asked);
void apply_plan(const Asked& asked);
void change_plan(const Asked& asked);
void restore_plan(const Asked& asked);
void list_revisions(const Asked& asked);
void show_difference(const Asked& asked);
void show_files(const Asked& asked);
void list_objects(const Asked& asked);
void client_secret(const Asked& asked);
void list_rotations(const Asked& asked);
void explain(const Asked& asked);
void show_audit(const Asked& asked);
void list_tokens(const Asked& asked);
void create_token(const Asked& asked);
void revoke_token(const Asked& asked);

}  // namespace jembatan::admin
