#pragma once
#include <filesystem>

#include "base/ip.h"
#include "plan/model.h"

namespace jembatan::cli {

/// Adds a client with a new secret to a plan's folder. If the plan has errors then, nothing is added.
///   rule     whether its requests must carry Message-Authenticator
///   returns  the file with the new secret
///   errors   Errc::malformed: the name; Errc::not_found: no folder; Errc::conflict: it is there, or the plan
///   has
///            errors; Errc::io
Result<std::string> add_to_folder(const std::filesystem::path& folder, const std::string& name,
                                  const Prefix& address, plan::SignatureRule rule);

}  // namespace jembatan::cli
