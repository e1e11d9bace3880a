#pragma once
#include <filesystem>

#include "base/result.h"

namespace jembatan::lab {

/// What kind of demo it is to be.
struct World {
  bool free_ports = false;
  bool hosts = false;      ///< each node is a machine of its own (hosts.h)
  bool two_hubs = false;   ///< they share a plan (database.h)
  bool directory = false;  ///< some people are there (people.h)
  bool factors = false;    ///< the harbour's engineers have a second factor
};
/// Writes the demo's files into folders of their own: each node behind its stand-in.
///   errors  Errc::io
Status write_demo(const std::filesystem::path& root, const World& world);

}  // namespace jembatan::lab
