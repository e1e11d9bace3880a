#pragma once
// A rehearsal without the wire: the requests are decided by a plan in this process.
#include "cli/rehearsing.h"
#include "engine/engine.h"
#include "host/system.h"

namespace jembatan::cli {

/// Decides steps by one plan, as the node would that has it. What would be asked of servers has no answer.
class DryRun {
 public:
  ///   at  the node whose plan it is: steps that ask others are passed over; empty: all steps count as its
  ///   own
  DryRun(plan::PlanPtr plan, std::string at);
  CaseResult run(const rehearsal::Case& one);

 private:
  /// What became of a request; the group that it would go to, if it would.
  struct Decided {
    Came came;
    std::string group;      ///< that it goes to
    std::string elsewhere;  ///< whose word decides: "what directory crew says"
  };
  Status run_step(const rehearsal::Step& step, CaseResult& result, std::size_t number);
  Result<Decided> decide(const rehearsal::Step& step, std::size_t number);
  const plan::Client* client_of(const rehearsal::Step& step) const;
  void handle(const engine::Datagram& in, Decided& out);
  std::optional<wire::PacketView> reply_of_now() const;
  engine::Judged judged(const engine::Job::Judge& job);
  void carry_out(Decided& out);

  plan::PlanPtr plan_;
  std::string at_;
  host::SystemRandom random_;
  host::SystemClock clock_;
  engine::Counters counters_;
  forward::HealthBoard board_;
  engine::Actions actions_;
  std::optional<engine::Engine> engine_;
  std::map<std::pair<std::size_t, std::string>, identity::CodePage> pages_;  // by factor and user
  std::uint16_t next_port_ = 1024;
};

}  // namespace jembatan::cli
