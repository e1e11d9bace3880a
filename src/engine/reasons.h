#pragma once
// Reasons of endings that others ask for: what would mend it depends on them.
#include <string_view>

namespace jembatan::engine {

inline constexpr std::string_view kNoUser = "no such user here";
inline constexpr std::string_view kNoAnswer = "no server answered";
inline constexpr std::string_view kUnreadableHere =
    "wrong password: it is unreadable with this client's secret, which very likely differs";
inline constexpr std::string_view kUnreadableBefore =
    "wrong password: it is unreadable, though this client signs with the right secret: at a hop before it "
    "the "
    "secrets very likely differ";
inline constexpr std::string_view kSentOnUnreadable =
    "the server's answer to a password that was unreadable here already: this client's secret very likely "
    "differs";

}  // namespace jembatan::engine
