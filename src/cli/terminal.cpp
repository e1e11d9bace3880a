#include "cli/terminal.h"

#include <unistd.h>

#include <array>
#include <cstdio>
#include <cstdlib>

namespace jembatan::cli {

Terminal::Terminal() : is_terminal_(isatty(STDOUT_FILENO) != 0 && std::getenv("NO_COLOR") == nullptr) {}

void Terminal::out(std::string_view text) {
  std::fwrite(text.data(), 1, text.size(), stdout);
  std::fflush(stdout);
}

void Terminal::line(std::string_view text) {
  out(std::string(text) + "\n");
}

void Terminal::error(std::string_view text) {
  note("jembatan: " + std::string(text));
}

void Terminal::note(std::string_view text) {
  fmt::print(stderr, "{}\n", text);
}

std::string Terminal::coloured(std::string_view text, Colour colour) const {
  static constexpr std::array kCodes{"", "\033[32m", "\033[31m", "\033[33m", "\033[2m", "\033[1m"};
  if (!is_terminal_ || colour == Colour::plain) return std::string(text);
  return kCodes[static_cast<std::size_t>(colour)] + std::string(text) + "\033[0m";
}

}  // namespace jembatan::cli
