#pragma once
// Events in words: what the log writes and what people read live.
#include <functional>

#include "engine/actions.h"

namespace jembatan::server {

/// "user sari@reef.example" or "client 192.0.2.10 (kerapu-deck-2)": what the line is about.
std::string subject_text(const engine::Event& event);
/// "3.2ms"
std::string took_text(std::chrono::microseconds took);

/// What texts about a node's events need to know of it.
struct About {
  std::string node;  ///< how commands are told this node: "--node FILE"
  std::string plan;  ///< how they are told where its plan is changed: the same, or "--plan FOLDER"
  /// Since when a client is switched off, and by whom: "since …, by harun: in dock"; empty if nobody knows.
  std::function<std::string(const std::string& client)> off_since;
};

/// The command that would mend what happened; empty if there is none.
std::string mend_of(const engine::Event& event, const About& about);
/// How to look at a server that was asked in vain: its "GROUP/NAME".
std::string look_at(const std::string& server, const About& about);

/// The line of the log: subject: outcome key=value … (reason)
std::string log_text(const engine::Event& event);
/// The same as members of a JSON object, without braces.
std::string log_json(const engine::Event& event);

}  // namespace jembatan::server
