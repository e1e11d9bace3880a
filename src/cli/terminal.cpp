#include "cli/terminal.h"

#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstdio>
#include <cstdlib>

namespace jembatan::cli {

namespace {

// In a pipe a table is as wide as on a usual terminal: programs read --json.
std::size_t terminal_width() {
  constexpr std::size_t kUsual = 100;
  constexpr std::size_t kLeast = 60;
  winsize size{};
  if (ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) != 0 || size.ws_col == 0) return kUsual;
  return std::max<std::size_t>(size.ws_col, kLeast);
}

}  // namespace

Terminal::Terminal()
    : is_terminal_(isatty(STDOUT_FILENO) != 0 && std::getenv("NO_COLOR") == nullptr),
      width_(terminal_width()) {}

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
  static constexpr std::array kCodes{"",        "\033[32m", "\033[31m",   "\033[33m",
                                     "\033[2m", "\033[1m",  "\033[97;40m"};
  if (!is_terminal_ || colour == Colour::plain) return std::string(text);
  return kCodes[static_cast<std::size_t>(colour)] + std::string(text) + "\033[0m";
}

}  // namespace jembatan::cli
