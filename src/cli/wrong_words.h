#pragma once
#include <optional>
#include <string>
#include <vector>

namespace jembatan::cli {

/// What is wrong with the words of a command line: no or half a command, an unknown noun, verb or option;
/// with the nearest one and those that there are. Nothing if they name a command, or ask for help.
std::optional<std::string> wrong_words(const std::vector<std::string>& arguments);

}  // namespace jembatan::cli
