#pragma once
// What the API's calls share.
#include "admin/http.h"
#include "server/server.h"

namespace jembatan::admin {

class Callers;

/// One call, being answered.
struct Asked {
  server::Server& server;
  Callers& callers;
  const revision::Author& caller;
  const Request& request;
  Response& response;
};
using Call = void (*)(const Asked&);

WallTime now();

/// False, with a problem answered, if the plan comes from a folder: what is changed elsewhere would be gone
/// at the next start.
bool changed_by_commands(const Asked& asked);

/// Makes the changes; what they need from outside is looked up here.
Result<revision::Applied> make_change(const Asked& asked, const std::vector<revision::Edit>& edits,
                                      const revision::Wish& wish, document::Problems& problems);

/// A line of the audit record by this caller, now.
revision::AuditEntry audit_entry(const Asked& asked, std::string action, std::string subject,
                                 std::string detail);

/// Nothing of the kind has this name; with the nearest of those that there are.
Error not_found(std::string_view kind, std::string_view name, const std::vector<std::string>& names);
/// The place of the one with that name.
///   errors  Errc::not_found
template <class Named>
Result<std::size_t> place_of(const std::vector<Named>& all, std::string_view name, std::string_view kind) {
  std::vector<std::string> names;
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (all[i].name == name) return i;
    names.push_back(all[i].name);
  }
  return not_found(kind, name, names);
}

/// A new shared secret of 32 letters and digits.
std::string new_secret();

}  // namespace jembatan::admin
