#include "dictionary/advice.h"

#include <fmt/format.h>

#include <map>

namespace jembatan::dictionary {
namespace {

std::optional<Column> column_of(wire::Code code) {
  switch (code) {
    case wire::Code::access_request:
      return Column::request;
    case wire::Code::access_accept:
      return Column::accept;
    case wire::Code::access_reject:
      return Column::reject;
    case wire::Code::access_challenge:
      return Column::challenge;
    case wire::Code::accounting_request:
      return Column::accounting;
    default:
      return std::nullopt;
  }
}

}  // namespace

std::vector<std::string> advise(wire::Code code, const std::vector<Described>& lines) {
  std::vector<std::string> out;
  const auto column = column_of(code);
  if (!column) return out;
  std::map<const Definition*, std::size_t> counts;
  for (const Described& line : lines) {
    // The same attribute under several tags describes several tunnels (RFC 2868 §3.1): tags are counted
    // apart.
    const bool first_tag = line.name.find('[') == std::string::npos || line.name.ends_with("[1]");
    if (line.depth == 0 && line.definition != nullptr && first_tag) ++counts[line.definition];
  }
  for (const auto& [definition, count] : counts) {
    const Presence presence = definition->presence[static_cast<std::size_t>(*column)];
    if (presence == Presence::never) {
      out.push_back(fmt::format("{} must not stand in an {} ({})", definition->name, name_of(*column),
                                definition->source));
    } else if (count > 1 && (presence == Presence::at_most_once || presence == Presence::exactly_once)) {
      out.push_back(fmt::format("{} stands {} times in an {}, which may have 1 ({})", definition->name, count,
                                name_of(*column), definition->source));
    }
  }
  return out;
}

}  // namespace jembatan::dictionary
