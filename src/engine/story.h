#pragma once
// What is needed to tell the story of one request when nobody waits for it any more: what came in, and every
// result that its course was given. The journal takes the same course over them again.
#include <variant>

#include "decide/course.h"
#include "forward/forwarding.h"
#include "forward/live_plan.h"

namespace jembatan::engine {

/// Something that a course was given after it began, or asked for.
struct Given {
  struct Asked {
    std::uint16_t server = 0;  ///< place in the group
    bool again = false;
    std::uint64_t leg = 0;  ///< wire::leg_of what was sent
  };
  struct Answered {
    std::uint16_t server = 0;
    Octets packet;                ///< genuine, as it came
    wire::Authenticator request;  ///< Request Authenticator of what was asked
  };
  struct Compared {
    decide::Proof proof;
    bool waited = false;  ///< it was compared off the network thread
  };
  std::chrono::microseconds after{0};
  std::variant<Asked, Answered, Compared, decide::Challenge, decide::Kept, decide::Silence, decide::Refusal,
               decide::PersonPtr, decide::FactorProof, decide::ResumedPtr>
      what;
};

struct Story {
  forward::LivePlanPtr live;
  const plan::Client* client = nullptr;  ///< of that plan
  Octets request;                        ///< as received
  Octets reply;                          ///< as sent; empty: none
  WallTime arrived{};
  plan::WhichSecret which_secret{};  ///< the one that the client used
  std::size_t group = 0;             ///< that it was to be forwarded to, if it was
  std::uint64_t sessions = 0;        ///< Course::sessions
  std::vector<Given> given;
};
using StoryPtr = std::shared_ptr<const Story>;

}  // namespace jembatan::engine
