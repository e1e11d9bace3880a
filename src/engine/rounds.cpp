// Methods that take several rounds.
#include "engine/engine.h"
#include "engine/resume.h"
#include "wire/packet.h"

namespace jembatan::engine {

using wire::AttributeType;

// RFC 2865 §5.24: the next round comes with the State that the last Access-Challenge had.
bool Engine::converse(const Request& request) {
  if (!settings_.begin_method) return false;
  const decide::Course& course = *request.course;
  const auto state = course.packet().find(AttributeType::state);
  if (!state) {
    auto method = settings_.begin_method(course);
    if (!method) return false;
    next_round(request, {std::move(method), request.client.name, course.way().full_name});
    return true;
  }
  auto found = conversations_->take(state->value, request.client.name, request.turn.now.steady);
  if (!found) {
    proved(request, {false, "no conversation has this State: it has ended, or has expired"});
  } else if (found->user != course.way().full_name) {
    proved(request, {false, "the conversation began with another user", found->user});
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
  Conversations::State state;
  random_.fill(state);
  auto& challenge = std::get<decide::Challenge>(came);
  challenge.attributes.push_back(static_cast<std::uint8_t>(AttributeType::state));
  challenge.attributes.push_back(static_cast<std::uint8_t>(state.size() + wire::kAttributeHeader));
  append(challenge.attributes, state);
  conversations_->put(state, std::move(conversation), request.turn.now.steady);
  note_and_give(request, std::move(challenge));
}

}  // namespace jembatan::engine
