#pragma once
// What the commands share that list rows of a node.
#include <functional>

#include "cli/node_access.h"

namespace jembatan::cli {

using QueryParts = std::vector<std::pair<std::string, std::string>>;

/// The filters that mean the same in every command that lists: --user, --client, --realm, --since, --until,
/// --most.
Option filter(std::string_view name);
/// What was given of them, as the API calls them.
///   errors  Errc::malformed: a time
Result<QueryParts> query_of(const Arguments& arguments, std::initializer_list<const char*> names);

/// Sessions and accounting records are found by the same: all of the filters above, and --session-id.
std::vector<Option> accounting_filters();
Result<QueryParts> accounting_query(const Arguments& arguments);

/// A list of the API.
struct RowsOf {
  std::string path;  ///< "/v1/sessions"
  std::string key;   ///< under which it stands in the answer, and what its rows are called
  std::function<void(const nlohmann::json&, Terminal&)> print;
  std::string nothing = {};  ///< what is said of an empty list; empty: "no KEY found"
};
/// Calls the node and prints the list: as JSON, as its `print` does, or a line that nothing was found.
Exit list_rows(const Arguments& arguments, Terminal& terminal, const Result<QueryParts>& query,
               const RowsOf& rows);

/// "2026-11-23 07:41:02", UTC, from the API's time.
std::string short_time(const std::string& time);
/// Outcomes that come besides the one of a request: repeats and servers' replies.
bool is_quiet(const std::string& outcome);
Colour colour_of(const std::string& outcome);
/// "1.5 MB"
std::string octets_text(std::uint64_t octets);

}  // namespace jembatan::cli
