#pragma once
// Lines of a document as they may be shown: what may be a secret is not.
#include <string>
#include <string_view>
#include <vector>

namespace jembatan::document {

/// True for keys that hold secrets, and for what may be one of them misspelt: "secret", "pasword",
/// "passphrase".
bool may_be_secret(std::string_view key);

/// The line with everything behind the first such key masked: "secret = ********"; likewise behind those
/// in `hidden`. A line without a key, as inside of a text over several lines, is masked whole.
std::string shown_line(std::string_view line, const std::vector<std::string>& hidden = {});

}  // namespace jembatan::document
