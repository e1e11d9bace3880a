#include "forward/forwarding.h"

#include <algorithm>

namespace jembatan::forward {

Forwarding::Step Forwarding::start(const Candidates& of, Asker asker, TimePoint until, Moment at) {
  asker_ = asker;
  until_ = until;
  tried_.reset();
  return ask_next(of, at);
}

Forwarding::Step Forwarding::on_silence(const Candidates& of, Moment at) {
  if (at.now >= until_) return Step::give_up;
  // A server that has gone down meanwhile is not worth another attempt while others are left.
  const bool alone = !asker_.began_at && tried_.count() == of.group.servers.size();
  if (attempts_ < most_attempts(of.group) && (alone || !of.health[server_]->avoided(of.group))) {
    ++attempts_;
    wait(of.group, at);
    return Step::ask_again;
  }
  return ask_next(of, at);
}

// One that nobody else can answer gets the patience that others would have had, while its server may be
// alive.
int Forwarding::most_attempts(const plan::Group& group) const {
  return group.attempts * (asker_.began_at ? static_cast<int>(group.servers.size()) : 1);
}

Forwarding::Step Forwarding::ask_next(const Candidates& of, Moment at) {
  const auto next = choose(of, asker_, tried_, at.now);
  if (!next) return Step::give_up;
  server_ = *next;
  tried_.set(server_);
  attempts_ = 1;
  wait(of.group, at);
  return Step::ask;
}

void Forwarding::wait(const plan::Group& group, Moment at) {
  const std::chrono::nanoseconds whole = plan::wait_of_attempt(group, std::min(attempts_, group.attempts));
  const std::chrono::nanoseconds tenth = whole / 10;
  const auto by_chance = std::chrono::nanoseconds((tenth.count() * at.chance) >> 31U);  // up to two tenths
  deadline_ = at.now + whole - tenth + by_chance;
  cut_short_ = until_ < deadline_;
  if (cut_short_) deadline_ = until_;
}

}  // namespace jembatan::forward
