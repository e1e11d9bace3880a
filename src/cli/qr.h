#pragma once
#include <string>
#include <vector>
#include "base/result.h"

#include "base/secret.h"

namespace jembatan::cli {

/// A QR code (ISO/IEC 18004) as a square of modules.
struct QrCode {
  std::size_t width = 0;
  std::vector<bool> dark;  ///< row by row
  bool at(std::size_t x, std::size_t y) const { return x < width && y < width && dark[y * width + x]; }
};

/// errors  Errc::too_long
Result<QrCode> qr_code(const Secret& text);

/// Two rows of modules to a line, with the margin that readers need; what is light is filled, for terminals
/// whose background is dark.
std::vector<std::string> qr_lines(const QrCode& code);

/// A PNG picture, with the margin.
///   pixels  a module's edge
Result<std::string> qr_png(const QrCode& code, unsigned pixels = 8);

}  // namespace jembatan::cli
