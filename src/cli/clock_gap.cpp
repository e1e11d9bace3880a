#include "cli/clock_gap.h"

#include <fmt/format.h>

#include <ctime>

#include "base/text.h"

namespace jembatan::cli {

using namespace std::chrono_literals;

std::string clock_gap(const std::string& node, const std::string& date, WallTime before, WallTime after) {
  constexpr auto kAgrees = 2s;
  std::tm parts{};
  const char* rest = strptime(date.c_str(), "%a, %d %b %Y %H:%M:%S GMT", &parts);
  if (rest == nullptr || *rest != '\0') return "";
  const WallTime theirs = std::chrono::system_clock::from_time_t(timegm(&parts));
  // Cut to its second: it was any time from `theirs` on, to a second later.
  const auto ahead = theirs - after;
  const auto behind = before - (theirs + 1s);
  const auto gap = std::max(ahead, behind);
  if (gap <= kAgrees) return "";
  return fmt::format(
      "the clock of node {} is {} {} this machine's: times in what it says differ by that much", node,
      text_of(std::chrono::floor<std::chrono::seconds>(gap)), ahead > behind ? "ahead of" : "behind");
}

}  // namespace jembatan::cli
