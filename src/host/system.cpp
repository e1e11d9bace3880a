#include "host/system.h"

#include <sys/random.h>

#include <algorithm>
#include <cerrno>
#include <system_error>

namespace jembatan::host {

void SystemRandom::fill(OctetSpan out) {
  while (!out.empty()) {
    if (used_ == stock_.size()) {
      for (std::size_t got = 0; got < stock_.size();) {
        const ssize_t more = getrandom(stock_.data() + got, stock_.size() - got, 0);
        if (more < 0 && errno != EINTR) throw std::system_error(errno, std::generic_category(), "getrandom");
        if (more > 0) got += static_cast<std::size_t>(more);
      }
      used_ = 0;
    }
    const std::size_t take = std::min(out.size(), stock_.size() - used_);
    std::copy_n(stock_.begin() + static_cast<std::ptrdiff_t>(used_), take, out.begin());
    wipe(OctetSpan(stock_).subspan(used_, take));
    used_ += take;
    out = out.subspan(take);
  }
}

}  // namespace jembatan::host
