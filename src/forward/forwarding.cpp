#include "forward/forwarding.h"

namespace jembatan::forward {

Forwarding::Step Forwarding::start(const plan::Group& group, const std::vector<HealthPtr>& health,
                                   Random& random, TimePoint now) {
  tried_.reset();
  return ask_next(group, health, random, now);
}

Forwarding::Step Forwarding::on_silence(const plan::Group& group, const std::vector<HealthPtr>& health,
                                        Random& random, TimePoint now) {
  // A server that has gone down meanwhile is not worth another attempt while others are left.
  const bool alone = tried_.count() == group.servers.size();
  if (attempts_ < group.attempts && (alone || !health[server_]->down())) {
    ++attempts_;
    deadline_ = now + group.answer_within;
    return Step::ask_again;
  }
  return ask_next(group, health, random, now);
}

Forwarding::Step Forwarding::ask_next(const plan::Group& group, const std::vector<HealthPtr>& health,
                                      Random& random, TimePoint now) {
  const auto next = choose({group, health}, tried_, random, now);
  if (!next) return Step::give_up;
  server_ = *next;
  tried_.set(server_);
  attempts_ = 1;
  deadline_ = now + group.answer_within;
  return Step::ask;
}

}  // namespace jembatan::forward
