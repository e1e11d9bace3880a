#pragma once
// The journal: what became of recent requests, and why. No passwords, no hidden values.
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/octets.h"
#include "plan/plan.h"

namespace jembatan::journal {

/// One request, as people read it.
struct Entry {
  std::uint64_t number = 0;
  WallTime at;          ///< when it ended
  std::string outcome;  ///< "accepted", "rejected", …
  std::string packet;   ///< "Access-Request"
  std::string client;
  std::string source;  ///< address and port
  std::string user;    ///< as received, escaped
  std::string realm;   ///< as the plan understands it, escaped
  std::string server;  ///< "GROUP/SERVER" that answered; empty: none
  std::string reason;  ///< in words
  std::chrono::microseconds took{0};
  std::uint64_t revision = 0;      ///< of the plan that decided it
  std::uint64_t leg = 0;           ///< wire::leg_of what came in; 0: not known
  std::vector<std::string> trail;  ///< each step, one line
  std::int64_t record = 0;         ///< the accounting record that it became, or is a resend of; 0: none
  /// One packet that was sent to a server, and what came of it.
  struct Leg {
    std::string server;  ///< "GROUP/SERVER"
    std::uint64_t leg = 0;
    std::chrono::microseconds asked{0};  ///< after the request came in
    std::optional<std::chrono::microseconds> answered;
    int times = 1;  ///< it was sent
  };
  std::vector<Leg> legs;
  Octets request;  ///< the packets, without what is hidden in them; may be empty
  Octets reply;
};

/// What is looked for; empty parts are not asked for.
struct Query {
  std::string user;    ///< with or without its realm; letter case does not matter
  std::string client;  ///< its name
  std::string outcome;
  std::string text;  ///< somewhere in user, reason or trail; letter case does not matter
  std::optional<WallTime> since;
  std::optional<WallTime> until;
  std::string realm;         ///< by the name that the plan has for it
  std::uint64_t leg = 0;     ///< wire::leg_of what came in; 0: any
  std::uint64_t asked = 0;   ///< wire::leg_of what was sent to a server; 0: any
  std::uint64_t before = 0;  ///< numbers below this; 0: all
  std::size_t most = 100;
};

struct Limits {
  Duration keep{7L * 24 * 3600 * 1000};  ///< 0: there is no journal
  std::uint64_t most_octets = 256U << 20U;
};

/// Entries, one behind the other, as they are kept (pack.h).
struct Block {
  std::uint64_t first = 0;  ///< numbers
  std::uint64_t last = 0;
  WallTime from{};  ///< times of the entries
  WallTime until{};
  Octets entries;
};

/// Keeps blocks. One thread at a time.
class Blocks {
 public:
  virtual ~Blocks() = default;
  /// Keeps all of them, or none.
  virtual Status append(std::span<const Block> blocks) = 0;
  /// The newest block that begins below a number; nothing if there is none, or not any more.
  ///   since, until  if given: of those with an entry in that time
  virtual Result<std::optional<Block>> below(std::uint64_t number, const std::optional<WallTime>& since = {},
                                             const std::optional<WallTime>& until = {}) = 0;
  /// The highest number that is kept; 0: there is none.
  virtual Result<std::uint64_t> last() = 0;
  /// Takes the oldest away until the limits hold.
  virtual Status prune(const Limits& limits, WallTime now) = 0;
};

/// The plan of a revision.
using PlanOf = std::function<Result<plan::PlanPtr>(std::uint64_t revision)>;

}  // namespace jembatan::journal
