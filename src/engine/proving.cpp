// Proving a password: at once, or by a job.
#include "base/text.h"
#include "decide/reasons.h"
#include "engine/engine.h"
#include "engine/resume.h"
#include "identity/methods.h"
#include "identity/shape.h"
#include "wire/hidden.h"

namespace jembatan::engine {

using decide::Proof;
using wire::AttributeType;

namespace {

constexpr Duration kCompareWithin{30000};

std::string again_in(Duration wait) {
  return "looked at again in " + jembatan::text_of(wait);
}

}  // namespace

Slowdown::Attempt Engine::attempt_of(const decide::Course& course, const plan::Client& client) {
  const plan::User* user = course.user();
  return {user == nullptr ? std::string_view(course.way().full_name) : std::string_view(user->name),
          client.name, wire::text_in(course.packet().find(AttributeType::calling_station_id))};
}

void Engine::prove(const Request& request) {
  const decide::Course& course = *request.course;
  const auto& limits = request.live->plan->sign_in;
  const auto attempt = attempt_of(request);
  if (const auto wait = slowdown_->wait(attempt, limits, request.turn.now.steady))
    return proved(request, {false, "too many wrong passwords in a row", again_in(*wait)});
  if (converse(request)) return;
  const plan::User* user = course.user();
  const identity::Claimed claimed{user == nullptr ? nullptr : &user->password, course.way().user};
  auto challenged = course.way().credential.method == "pap"
                        ? std::nullopt
                        : identity::prove_challenge(course.packet(), claimed, request.secret(), random_);
  if (!challenged) return prove_typed(request);
  if (challenged->right) {
    slowdown_->right(attempt);
  } else {
    slowdown_->wrong(attempt, limits, request.turn.now.steady);
  }
  proved(request, {challenged->right,
                   challenged->because,
                   {},
                   std::move(challenged->right ? challenged->accept : challenged->reject)});
}

// An unknown user takes as long as one whose password is hashed, if the plan has such users.
void Engine::prove_typed(const Request& request) {
  const decide::Course& course = *request.course;
  const plan::Plan& plan = *request.live->plan;
  const plan::User* user = course.user();
  const auto hidden = course.packet().find(AttributeType::user_password);
  auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
  if (!typed)
    return give(request,
                decide::Failure{{Outcome::malformed, "User-Password cannot be opened", typed.error().text}});
  const identity::StoredPassword* stored = user != nullptr ? &user->password : plan.slow_password();
  if (stored == nullptr || !stored->slow()) {
    typed_proved(request, {user != nullptr && stored->matches(*typed)}, *typed);
  } else if (const auto at = slowdown_->begin(attempt_of(request), plan.sign_in, request.turn.now.steady)) {
    proved(request, {false, "too many passwords of this user are being compared", again_in(*at)});
  } else {
    compare(request, *stored, *typed);
  }
  wipe(*typed);
}

void Engine::compare(const Request& request, const identity::StoredPassword& stored, OctetView typed) {
  const auto attempt = attempt_of(request);
  const std::string user(attempt.user);  // what it looks at moves
  const std::string station(attempt.station);
  const auto ticket = wait(request, kCompareWithin);
  if (!ticket) return slowdown_->end({user, request.client.name, station});
  Pending& pending = *pending_.get(*ticket);
  pending.comparing = true;
  request.turn.out.jobs.push_back(
      {*ticket, Job::Compare{pending.live->plan, &stored, Secret(text_of(typed))}});
}

void Engine::compared(const Request& request, Compared result) {
  const auto hidden = request.course->packet().find(AttributeType::user_password);
  auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
  typed_proved(request, {result.matches && request.course->user() != nullptr}, *typed);
  wipe(*typed);
}

void Engine::typed_proved(const Request& request, Compared result, OctetView typed) {
  const auto attempt = attempt_of(request);
  if (result.matches) {
    slowdown_->right(attempt);
    return proved(request, {true});
  }
  const plan::User* user = request.course->user();
  Proof out{false, user == nullptr ? identity::kNoUser : "wrong password"};
  if (wire::looks_unreadable(typed)) {
    out.because = request.course->is_signed() ? decide::kUnreadableBefore : decide::kUnreadableHere;
  } else if (user != nullptr) {
    out.detail = identity::shape_hint(typed, user->password);
  }
  if (out.because == decide::kUnreadableHere) {
    slowdown_->end(attempt);  // it could come from anybody
  } else {
    slowdown_->wrong(attempt, request.live->plan->sign_in, request.turn.now.steady);
  }
  proved(request, std::move(out));
}

void Engine::proved(const Request& request, Proof proof) {
  const Pending* pending = pending_.get(request.ticket);
  request.given->push_back({request.age(), Given::Compared{proof, pending != nullptr && pending->comparing}});
  give(request, std::move(proof));
}

}  // namespace jembatan::engine
