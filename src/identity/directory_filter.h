#pragma once
// Search filters of directories (RFC 4515), with places for what is looked for: "(uid={user})".
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jembatan::identity {

/// A value as it stands in a filter: '*', '(', ')', '\' and NUL as two hexadecimal digits behind a '\'
/// (RFC 4515 §3). Whatever a person types can only be compared then.
std::string as_filter_value(std::string_view value);

/// What is wrong with a filter: brackets, an operator, a place that is not allowed. Empty: nothing is.
///   places  the allowed ones: "user"
std::string mistake_in_filter(std::string_view filter, const std::vector<std::string>& places);

/// The filter with its places filled in, each escaped. It has no mistake, and all its places are there.
std::string filled_filter(std::string_view filter, const std::map<std::string, std::string>& values);

}  // namespace jembatan::identity
