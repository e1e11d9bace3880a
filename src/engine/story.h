#pragma once
// What is needed to tell the story of one request when nobody waits for it any more: its trail is made from
// this, by the functions that decided it.
#include "decide/explain.h"
#include "forward/forwarding.h"

namespace jembatan::engine {

/// Something that happened to a request after it arrived.
struct Mark {
  enum class What : std::uint8_t { compared, asked, asked_again, answered } what{};
  std::uint16_t server = 0;  ///< place in the group
  std::chrono::microseconds after{0};
};

struct Story {
  forward::LivePlanPtr live;
  const plan::Client* client = nullptr;  ///< of that plan
  Octets request;                        ///< as received
  Octets reply;                          ///< as sent; empty: none
  WallTime arrived{};
  plan::WhichSecret which_secret{};  ///< the one that the client used
  decide::Assume assume = decide::Assume::proven;
  std::size_t group = 0;  ///< that it was forwarded to, if there are marks of servers
  std::vector<Mark> marks;
  std::vector<std::string> notes;  ///< what edits did to a server's answer, one line each
};
using StoryPtr = std::shared_ptr<const Story>;

}  // namespace jembatan::engine
