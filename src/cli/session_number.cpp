#include "cli/session_number.h"

#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::cli {

Result<std::int64_t> session_of(const Arguments& arguments) {
  const std::string& text = arguments.positionals().front();
  if (const auto number = accounting::session_numbered(text)) return *number;
  return fail(Errc::malformed,
              fmt::format("'{}' is no number of a session; session list tells them", escaped(text)));
}

}  // namespace jembatan::cli
