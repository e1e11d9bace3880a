#pragma once
#include <cstdint>
#include <optional>
#include <string>

namespace jembatan::cli {

/// Error-Cause (RFC 5176 §3.5), and what it means for who asked: "Session-Context-Not-Found: …".
///   cause  nothing: it was not told
std::string error_cause_text(std::optional<std::uint32_t> cause);

/// Whether a proxy on the way said it, not the device.
bool is_of_proxies(std::uint32_t cause);

}  // namespace jembatan::cli
