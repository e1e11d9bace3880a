#pragma once

namespace jembatan::cli {

/// The whole program: parses, runs one command, gives its exit code. Passwords and secrets given as options
/// are overwritten in argv, so that other users do not see them in the list of processes.
int run(int argc, char** argv);

}  // namespace jembatan::cli
