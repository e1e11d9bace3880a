#pragma once
// What a reply is expected to hold: --expect.
#include "cli/command.h"
#include "dictionary/describe.h"

namespace jembatan::cli {

/// --expect NAME=VALUE, any number of times.
Option expect_option();

/// Reads what was given, each as one line of the reply; "vlan=30" stands for Tunnel-Private-Group-ID, and a
/// name without a value for an attribute that must not be there.
///   errors  Errc::malformed, Errc::not_found: as dictionary::encode
Result<std::vector<dictionary::Described>> read_expectations(const Arguments& arguments,
                                                             const dictionary::Catalogue& names);

/// One of them: "vlan=30".
Result<std::vector<dictionary::Described>> read_expectation(const std::string& given,
                                                            const dictionary::Catalogue& names);

/// What differs: "expected vlan \"30\", the reply has \"31\""; nothing if all is as expected.
std::vector<std::string> differences_from(const std::vector<dictionary::Described>& expected,
                                          const std::vector<dictionary::Described>& reply);

}  // namespace jembatan::cli
