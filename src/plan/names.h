#pragma once
#include "document/reading.h"

namespace jembatan::plan {

/// True for what objects may be called: 1 to 128 octets without control characters, no space at either end.
bool is_plain_name(std::string_view name);

/// Whether a text can be a host name (RFC 1123 §2.1); an address is none.
bool is_host_name(std::string_view text);

/// The name that an entry has; empty, with a problem, if it is none.
std::string read_name(document::Reading& reading, const document::Entry& entry);

}  // namespace jembatan::plan
