#include "forward/forwarding.h"

namespace jembatan::forward {

Forwarding::Step Forwarding::start(const Candidates& of, TimePoint now) {
  tried_.reset();
  return ask_next(of, now);
}

Forwarding::Step Forwarding::on_silence(const Candidates& of, TimePoint now) {
  // A server that has gone down meanwhile is not worth another attempt while others are left.
  const bool alone = tried_.count() == of.group.servers.size();
  if (attempts_ < of.group.attempts && (alone || !of.health[server_]->down())) {
    ++attempts_;
    deadline_ = now + of.group.answer_within;
    return Step::ask_again;
  }
  return ask_next(of, now);
}

Forwarding::Step Forwarding::ask_next(const Candidates& of, TimePoint now) {
  const auto next = choose(of, tried_, now);
  if (!next) return Step::give_up;
  server_ = *next;
  tried_.set(server_);
  attempts_ = 1;
  deadline_ = now + of.group.answer_within;
  return Step::ask;
}

}  // namespace jembatan::forward
