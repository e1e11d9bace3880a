#pragma once
// The stand-ins in front of the lab's nodes: whoever asks a node asks its stand-in, which passes on to the
// node under the asker's own address, with the fault that is set.
#include <filesystem>

#include "base/result.h"

namespace jembatan::lab {

/// Where the faults stand that are set, and what the stand-ins have taken up of them, below the lab's folder.
inline constexpr const char* kFaultsFile = "faults.json";
inline constexpr const char* kTakenUpFile = "faults.taken-up";

/// Passes on until the process is ended.
///   errors  Errc::conflict: an address is in use; Errc::io
Status run_relay(const std::filesystem::path& lab);

}  // namespace jembatan::lab
