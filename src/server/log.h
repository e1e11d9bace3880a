#pragma once
#include <string_view>

#include "host/node_file.h"

namespace jembatan::server {

/// Sets up the process's log on standard error: text or JSON lines, written in pieces, flushed by flush_log()
/// and at warnings.
void open_log(host::LogFormat format, std::string_view level);
void flush_log();
/// Before the process ends: waits a moment for a reader who is behind.
void finish_log();

/// One line about the process itself: "plan revision 3 in force", with facts as "key=value" in the text.
void log_info(std::string_view text);
void log_warning(std::string_view text);
void log_error(std::string_view text);

}  // namespace jembatan::server
