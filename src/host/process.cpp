#include "host/process.h"

#include <fmt/format.h>
#include <sched.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>

namespace jembatan::host {

Status allow_open_files(std::size_t wanted) {
  rlimit limit{};
  if (getrlimit(RLIMIT_NOFILE, &limit) != 0 || limit.rlim_cur == RLIM_INFINITY || limit.rlim_cur >= wanted)
    return {};
  const rlim_t most = limit.rlim_max;
  if (most != RLIM_INFINITY && most < wanted) {
    return fail(
        Errc::not_allowed,
        fmt::format(
            "this process may have {} files and sockets open, and needs {}: raise the limit (ulimit -n "
            "{}, or LimitNOFILE={} of its service)",
            most, wanted, wanted, wanted));
  }
  limit.rlim_cur = most == RLIM_INFINITY ? wanted : std::min<rlim_t>(most, std::max<rlim_t>(wanted, 65536));
  if (setrlimit(RLIMIT_NOFILE, &limit) == 0) return {};
  return fail(Errc::not_allowed, fmt::format("the limit of open files cannot be raised to {}", wanted));
}

void set_core_dumps(CoreDumps allowed) {
  if (allowed == CoreDumps::yes) return;
  const rlimit none{0, 0};
  setrlimit(RLIMIT_CORE, &none);
  prctl(PR_SET_DUMPABLE, 0);
}

unsigned usable_processors() {
  cpu_set_t usable;
  CPU_ZERO(&usable);
  if (sched_getaffinity(0, sizeof(usable), &usable) != 0) return 1;
  return static_cast<unsigned>(std::max(1, CPU_COUNT(&usable)));
}

void name_thread(std::string_view name) {
  prctl(PR_SET_NAME, std::string(name).c_str());
}

void step_back() {
  constexpr int kNicer = 10;
  (void)!nice(kNicer);  // of this thread alone (Linux)
}

}  // namespace jembatan::host
