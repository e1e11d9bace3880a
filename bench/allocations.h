#pragma once
#include <cstddef>

namespace jembatan::bench {

/// How many pieces of memory this program has taken by `new` so far. One thread.
std::size_t allocations();

}  // namespace jembatan::bench
