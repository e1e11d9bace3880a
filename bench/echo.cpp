// A bare echo server: the floor that the server is measured against.
//   jembatan_echo PORT
#include "serve.h"

int main(int argc, char** argv) {
  if (argc != 2) return 2;
  return jembatan::bench::serve(argv[1], [](auto, std::size_t size) { return size; });
}
