#pragma once
// What processes have used, for programs that measure others.
#include <unistd.h>

#include <cstdio>
#include <fstream>
#include <sstream>
#include <string>

namespace jembatan::bench {

/// User and system time of a process and its threads, in seconds.
inline double cpu_seconds_of(const std::string& process) {
  std::ifstream in("/proc/" + process + "/stat");
  std::string text((std::istreambuf_iterator<char>(in)), {});
  const std::size_t name = text.rfind(')');
  if (name == std::string::npos) return 0;
  text = text.substr(name + 2);
  unsigned long user = 0;
  unsigned long system = 0;
  std::sscanf(text.c_str(), "%*c %*d %*d %*d %*d %*d %*u %*u %*u %*u %*u %lu %lu", &user, &system);
  return static_cast<double>(user + system) / static_cast<double>(sysconf(_SC_CLK_TCK));
}

/// Of all of them; commas between.
inline double cpu_seconds(const std::string& processes) {
  double out = 0;
  std::istringstream all(processes);
  for (std::string one; std::getline(all, one, ',');) out += cpu_seconds_of(one);
  return out;
}

}  // namespace jembatan::bench
