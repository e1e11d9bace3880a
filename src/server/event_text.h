#pragma once
// Events in words: what the log writes and what people read live.
#include "engine/actions.h"

namespace jembatan::server {

/// "user sari@reef.example" or "client 192.0.2.10 (kerapu-deck-2)": what the line is about.
std::string subject_text(const engine::Event& event);
/// "3.2ms"
std::string took_text(std::chrono::microseconds took);

/// The command that would mend what happened; empty if there is none.
///   node  how commands are told this node: "--node FILE"
///   plan  how they are told where its clients stand: the same, or "--plan FOLDER"
std::string mend_of(const engine::Event& event, const std::string& node, const std::string& plan);

/// The line of the log: subject: outcome key=value … (reason)
std::string log_text(const engine::Event& event);
/// The same as members of a JSON object, without braces.
std::string log_json(const engine::Event& event);

}  // namespace jembatan::server
