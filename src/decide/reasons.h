#pragma once
// Reasons of endings that others ask for: what would mend it depends on them.
#include <string>
#include <string_view>

namespace jembatan::decide {

inline constexpr std::string_view kNoAnswer = "no server answered";
inline constexpr std::string_view kLostInTheMiddle =
    "the server that the conversation began with is lost: it ends here, and can be begun anew";
inline constexpr std::string_view kUnreadableHere =
    "wrong password: it is unreadable with this client's secret, which very likely differs";
inline constexpr std::string_view kUnreadableBefore =
    "wrong password: it is unreadable, though this client signs with the right secret: at a hop before it "
    "the secrets very likely differ";
inline constexpr std::string_view kSentOnUnreadable =
    "the server's answer to a password that was unreadable here already: this client's secret very likely "
    "differs";
inline constexpr std::string_view kMayNot = "the client may not ask that of any session";
inline constexpr std::string_view kTakesNoSuchRequests = "the client of the session takes no such requests";
inline constexpr std::string_view kNothingKept =
    "the directory shows this node no password of the user: what may the account read?";
inline constexpr std::string_view kServersAnswer = "the server's answer";
inline constexpr std::string_view kContradiction = "the request contradicts itself";
inline constexpr std::string_view kTooLong = "the reply does not fit into a packet";

/// "no realm of the plan matches (nowhere.example)"
std::string with_detail(std::string_view because, std::string_view detail);

}  // namespace jembatan::decide
