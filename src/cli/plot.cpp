#include "cli/plot.h"

#include <fmt/format.h>

#include <cstdio>
#include <filesystem>
#include <memory>

#include "base/text.h"

namespace jembatan::cli {

std::string plot_text(std::string_view text) {
  std::string out;
  for (const char c : escaped(text)) out += c == '\'' ? std::string("''") : std::string(1, c);
  return "'" + out + "'";
}

Status draw(const std::string& file, const std::string& script) {
  if (file.find('"') != std::string::npos || file.find('\\') != std::string::npos)
    return fail(Errc::malformed, "--plot: a file's name without quotes and backslashes");
  std::error_code failed;
  std::filesystem::remove(file, failed);
  {
    const std::unique_ptr<FILE, int (*)(FILE*)> gnuplot(::popen("gnuplot 2>/dev/null", "w"), ::pclose);
    if (!gnuplot) return fail(Errc::io, "gnuplot cannot be started");
    const bool png = file.ends_with(".png");
    const std::string all = fmt::format(
        "set terminal {} size 1100,700 font 'sans,13' background '#ffffff' noenhanced\nset output \"{}\"\n{}",
        png ? "pngcairo" : "svg", file, script);
    std::fputs(all.c_str(), gnuplot.get());
    std::fflush(gnuplot.get());
  }
  if (std::filesystem::exists(file, failed) && std::filesystem::file_size(file, failed) > 0) return {};
  return fail(Errc::io,
              fmt::format("'{}' was not drawn: it needs the program gnuplot (package gnuplot-nox)", file));
}

}  // namespace jembatan::cli
