#include "blackbox/examples.h"

#include <regex>
#include <sstream>

namespace jembatan::blackbox {

std::vector<Example> examples_in(const std::string& text) {
  static const std::regex kExit("(.*?) +# exit ([0-9]+)");
  std::vector<Example> out;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with("$ ")) {
      std::smatch parts;
      const std::string command = line.substr(2);
      const bool fails = std::regex_match(command, parts, kExit);
      out.push_back({fails ? parts[1].str() : command, fails ? std::stoi(parts[2]) : 0, {}});
    } else if (!out.empty()) {
      out.back().output.push_back(line);
    }
  }
  return out;
}

std::string console_blocks(const std::string& page) {
  std::string out;
  std::istringstream lines(page);
  bool inside = false;
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with("```")) {
      inside = line == "```console";
    } else if (inside) {
      out += line + "\n";
    }
  }
  return out;
}

bool is_printed(const Example& example, const std::string& printed) {
  std::size_t at = 0;
  bool anywhere = false;
  for (const std::string& line : example.output) {
    if (line == "…") {
      anywhere = true;
      continue;
    }
    const std::size_t found = printed.find(line + "\n", at);
    if (found == std::string::npos || (!anywhere && found != at)) return false;
    at = found + line.size() + 1;
    anywhere = false;
  }
  return true;
}

}  // namespace jembatan::blackbox
