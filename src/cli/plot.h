#pragma once
#include <string>

#include "base/result.h"

namespace jembatan::cli {

/// Draws by the program gnuplot (package gnuplot-nox) into a file: an SVG, or a PNG if its name says so.
///   script  for gnuplot, behind the settings of terminal and output; texts in it by plot_text()
///   errors  Errc::malformed: the file's name; Errc::io: nothing was drawn
Status draw(const std::string& file, const std::string& script);

/// In quotes, as gnuplot shows it unchanged.
std::string plot_text(std::string_view text);

}  // namespace jembatan::cli
