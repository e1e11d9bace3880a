#include "allocations.h"

#include <cstdlib>
#include <new>

namespace {

std::size_t the_allocations = 0;

}  // namespace

std::size_t jembatan::bench::allocations() {
  return the_allocations;
}

void* operator new(std::size_t size) {
  ++the_allocations;
  if (void* out = std::malloc(size == 0 ? 1 : size)) return out;
  throw std::bad_alloc();
}
void operator delete(void* at) noexcept {
  std::free(at);
}
void operator delete(void* at, std::size_t) noexcept {
  std::free(at);
}
