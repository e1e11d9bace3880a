#pragma once
#include <filesystem>

#include "base/result.h"

namespace jembatan::lab {

/// Writes the demo's files into folders of their own: each node behind its stand-in.
///   hosts   each node is a machine of its own (hosts.h)
///   hubs    two of them share a plan (database.h)
///   errors  Errc::io
enum class PortsOf : std::uint8_t { demo, free };
enum class NodesAs : std::uint8_t { processes, hosts };
enum class Hubs : std::uint8_t { one, two };
Status write_demo(const std::filesystem::path& root, PortsOf ports, NodesAs nodes, Hubs hubs);

}  // namespace jembatan::lab
