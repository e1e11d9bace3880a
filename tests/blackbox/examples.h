#pragma once
#include <string>
#include <vector>

namespace jembatan::blackbox {

/// A command line, and what it prints.
struct Example {
  std::string command;
  int exit_code = 0;
  std::vector<std::string> output;  ///< "…" stands for any lines
};

/// The examples of a text: "$ COMMAND   # exit 1", then the lines that it prints.
std::vector<Example> examples_in(const std::string& text);

/// What stands in the ```console blocks of a page.
std::string console_blocks(const std::string& page);

/// True if each run of lines between two "…" stands in what was printed, in this order.
bool is_printed(const Example& example, const std::string& printed);

}  // namespace jembatan::blackbox
