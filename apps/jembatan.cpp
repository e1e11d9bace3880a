// The client.
#include "cli/run.h"

int main(int argc, char** argv) {
  return jembatan::cli::run(argc, argv);
}
