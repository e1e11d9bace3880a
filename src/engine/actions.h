#pragma once
// What the engine wants done. It does nothing itself: whoever calls it carries these out and clears them.
#include <string>
#include <vector>

#include "accounting/store.h"
#include "base/slots.h"
#include "engine/counters.h"
#include "engine/story.h"
#include "identity/password.h"
#include "plan/plan.h"
#include "wire/code.h"

namespace jembatan::engine {

/// One line of what happened: for the log, the live feed and the counters of people. No passwords, no
/// secrets.
struct Event {
  WallTime at;
  Outcome outcome{};
  wire::Code code{};
  std::uint8_t identifier = 0;
  Endpoint source;
  std::string client;        ///< empty if unknown
  std::string user;          ///< as received
  std::string name;          ///< the same with its realm, as the plan understands it; empty: as received
  std::string realm;         ///< as the plan understands it
  std::string server;        ///< "GROUP/SERVER" that answered, empty if handled here
  std::string_view because;  ///< the reason in words; a literal
  std::string detail;        ///< what the reason is about, may be empty
  std::string mend;          ///< the command that would mend it; may be empty
  std::chrono::microseconds took{0};
  std::uint64_t number = 0;  ///< in the journal; 0: it is not there
  StoryPtr story;            ///< of requests that were decided; null: of others
  bool untold = false;       ///< it was decided, and nobody had room for its story
};

/// The reason, with what it is about: "no realm of the plan matches (nowhere.example)".
std::string reason_text(const Event& event);

/// A change of state that is about no single request.
struct Notice {
  WallTime at;
  Weight weight = Weight::info;
  std::string subject;  ///< "server reef-homes/reef-1 (access 127.0.10.1:1812)"
  std::string text;
  std::string asked_in_vain = {};  ///< "reef-homes/reef-1", a server that should be looked at; may be empty
};

/// Work that takes time: whoever does it says by Engine::on_done what came of it.
struct Job {
  /// A password to compare; its result is a Compared.
  struct Compare {
    plan::PlanPtr plan;  ///< keeps `stored` alive
    const identity::StoredPassword* stored = nullptr;
    Secret typed;
  };
  /// A record to make durable; its result is what the store says.
  struct Record {
    accounting::Incoming incoming;
  };
  /// Somebody to look for in a directory; the result is a LookedUp.
  struct LookUp {
    plan::PlanPtr plan;
    std::size_t directory = 0;  ///< index into Plan::directories
    std::string user;           ///< without the realm
    std::string realm;
    std::string name;             ///< with it
    std::optional<Secret> typed;  ///< the password that the directory is to prove
    bool stored = false;          ///< what it has of the password is wanted
    Duration within{};            ///< after which nobody waits for it any more
  };
  /// A one-time code to judge by what has served before; the result is a Judged.
  struct Judge {
    plan::PlanPtr plan;
    std::size_t factor = 0;  ///< index into Plan::factors
    std::string user;        ///< with the realm
    Secret typed;
    WallTime now{};
  };
  Ticket ticket;
  std::variant<Compare, Record, LookUp, Judge> work;
};

/// What came of a job.
struct Compared {
  bool matches = false;
};
struct LookedUp {
  decide::PersonPtr person;         ///< never null
  identity::StoredPassword stored;  ///< if it was wanted
};
struct Judged {
  Result<identity::CodeVerdict> verdict;
};
/// Nobody could be found to do it.
struct NotDone {
  std::string_view because;  ///< a literal
};
using JobResult = std::variant<Compared, Result<accounting::Kept>, LookedUp, Judged, NotDone>;

/// A password that was refused while somebody watches.
struct RejectedPassword {
  std::string user;  ///< with its realm
  std::string client;
  WallTime at;
  Secret typed;
};

struct Actions {
  /// Octets in `arena`.
  struct Piece {
    std::size_t at = 0;
    std::size_t size = 0;
  };
  struct Reply {
    std::uint16_t listener = 0;
    Endpoint to;
    IpAddress from;  ///< the local address that was asked
    Piece packet;
  };
  struct Ask {
    std::uint16_t lane = 0;
    Endpoint to;
    Piece packet;
    std::optional<IpAddress> from = {};  ///< the local address; empty: as the node file says
  };
  /// A request that has been answered, or could not be, and is to be sent to another group as well.
  struct Copy {
    StoryPtr story;
    const plan::Mirror* mirror = nullptr;  ///< of the story's plan
    std::string of;                        ///< "group reef-homes", "route new ships": whose mirror it is
    Event event;                           ///< what is told of it, without its outcome
  };
  Octets arena;
  std::vector<Reply> replies;
  std::vector<Ask> asks;
  std::vector<Job> jobs;
  std::vector<Event> events;
  std::vector<Notice> notices;
  std::vector<RejectedPassword> rejected;
  std::vector<Copy> copies;
  bool doubts = false;  ///< a server with a probe did not answer: the prober is to look

  Piece keep(OctetView packet) {
    const Piece piece{arena.size(), packet.size()};
    append(arena, packet);
    return piece;
  }
  OctetView view(Piece piece) const { return OctetView(arena).subspan(piece.at, piece.size); }
  void clear() {
    arena.clear();
    replies.clear();
    asks.clear();
    jobs.clear();
    events.clear();
    notices.clear();
    rejected.clear();
    copies.clear();
    doubts = false;
  }
};

/// When something is done, and where to put what is to be done next.
struct Turn {
  Now now;
  Actions& out;
};

}  // namespace jembatan::engine
