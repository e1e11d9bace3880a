#pragma once
#include <fmt/core.h>

#include <string>
#include <string_view>

#include "base/text.h"

namespace jembatan::cli {

enum class Colour : unsigned char { plain, good, bad, warn, dim, bold, paper };

/// Where a command writes to: results to standard output, all else to standard error. Colour only on a
/// terminal.
class Terminal {
 public:
  Terminal();
  void out(std::string_view text);
  void line(std::string_view text);
  void error(std::string_view text);  ///< "jembatan: TEXT" to standard error
  void note(std::string_view text);   ///< a line to standard error
  /// A table in the terminal's width; 100 characters where there is none.
  void table(const Table& table) { out(table.text(width_)); }
  std::size_t width() const { return width_; }
  std::string coloured(std::string_view text, Colour colour) const;
  bool is_terminal() const { return is_terminal_; }

 private:
  bool is_terminal_;
  std::size_t width_;
};

}  // namespace jembatan::cli
