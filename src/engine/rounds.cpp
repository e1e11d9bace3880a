// Methods that take several rounds.
#include "engine/engine.h"
#include "engine/resume.h"
#include "wire/packet.h"

namespace jembatan::engine {

using wire::AttributeType;

bool Engine::is_stray(const Request& request) const {
  return !*request.conversation && request.course->packet().find(AttributeType::state) &&
         (settings_.begin_method || !request.live->plan->factors.empty());
}

bool Engine::converse(const Request& request) {
  if (!settings_.begin_method) return false;
  const decide::Course& course = *request.course;
  std::optional<Conversation>& found = *request.conversation;
  if (!found) {
    auto method = settings_.begin_method(course);
    if (!method) return false;
    next_round(request, {std::move(method), request.client.name, course.way().full_name});
  } else if (found->user != course.way().full_name) {
    proved(request, {false, decide::kOfAnotherUser, found->user});
  } else {
    next_round(request, std::move(*found));
  }
  return true;
}

void Engine::next_round(const Request& request, Conversation conversation) {
  decide::HiddenValues hidden({request.secret(), request.packet.authenticator()}, random_);
  auto came = conversation.method->on(request.course->packet(), hidden);
  if (auto* proof = std::get_if<decide::Proof>(&came)) {
    const auto attempt = attempt_of(request);
    if (proof->right) {
      slowdown_->right(attempt);
    } else {
      slowdown_->wrong(attempt, request.live->plan->sign_in, request.turn.now.steady);
    }
    return proved(request, std::move(*proof));
  }
  challenge_with(request, std::move(std::get<decide::Challenge>(came)), std::move(conversation),
                 std::nullopt);
}

void Engine::challenge_with(const Request& request, decide::Challenge challenge, Conversation conversation,
                            std::optional<Duration> within) {
  const TimePoint now = request.turn.now.steady;
  Conversations::State state;
  random_.fill(state);
  wire::append_attribute(challenge.attributes, AttributeType::state, state);
  conversations_->put(state, std::move(conversation), now,
                      within ? std::optional(now + *within) : std::nullopt);
  note_and_give(request, std::move(challenge));
}

}  // namespace jembatan::engine
