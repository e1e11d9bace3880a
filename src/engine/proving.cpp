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
constexpr std::string_view kWrongPassword = "wrong password";

std::string again_in(Duration wait) {
  return "looked at again in " + jembatan::text_of(wait);
}

// Where nobody has the name, where somebody has it, and a directory says why the password does not help.
Proof why_wrong(const decide::Course& course) {
  using Found = decide::Person::Found;
  const decide::Person* person = course.person();
  if (person == nullptr) return {false, course.is_known() ? kWrongPassword : identity::kNoUser};
  if (person->found == Found::nobody) return {false, decide::kNotInDirectory};
  if (person->found == Found::several) return {false, decide::kSeveralInDirectory};
  if (!person->why.empty()) return {false, "the directory refuses the password", person->why};
  const auto barred = decide::reason_of(person->account);
  return {false, barred.empty() ? kWrongPassword : barred};
}

}  // namespace

Slowdown::Attempt Engine::attempt_of(const decide::Course& course, const plan::Client& client) {
  const plan::User* user = course.user();
  return {user == nullptr ? std::string_view(course.way().full_name) : std::string_view(user->name),
          client.name, wire::text_in(course.packet().find(AttributeType::calling_station_id))};
}

bool Engine::is_slowed(const Request& request) {
  const auto wait =
      slowdown_->wait(attempt_of(request), request.live->plan->sign_in, request.turn.now.steady);
  if (wait) proved(request, {false, "too many wrong passwords in a row", again_in(*wait)});
  return wait.has_value();
}

bool Engine::may_begin(const Request& request) {
  const auto wait =
      slowdown_->begin(attempt_of(request), request.live->plan->sign_in, request.turn.now.steady);
  if (wait) proved(request, {false, "too many passwords of this user are being compared", again_in(*wait)});
  return !wait;
}

std::optional<Ticket> Engine::wait_comparing(const Request& request, Duration at_most, bool comparing) {
  const auto attempt = attempt_of(request);
  const std::string user(attempt.user);  // what it looks at moves
  const std::string station(attempt.station);
  const auto ticket = wait(request, at_most);
  if (ticket) {
    pending_.get(*ticket)->comparing = comparing;
  } else if (comparing) {
    slowdown_->end({user, request.client.name, station});
  }
  return ticket;
}

const identity::StoredPassword* Engine::stored_of(const Request& request) {
  const decide::Course& course = *request.course;
  if (course.user() != nullptr) return &course.user()->password;
  return course.is_known() ? &pending_.get(request.ticket)->stored : nullptr;
}

// A directory that was to give out what it keeps of a password, and did not.
bool Engine::shows_nothing(const Request& request) {
  const decide::Person* person = request.course->person();
  return person != nullptr && person->found == decide::Person::Found::one &&
         person->password == decide::Person::Password::not_asked &&
         stored_of(request)->form() == identity::StoredPassword::Form::none;
}

void Engine::prove(const Request& request) {
  const decide::Course& course = *request.course;
  const auto& limits = request.live->plan->sign_in;
  const auto attempt = attempt_of(request);
  if (is_stray(request)) return proved(request, {false, decide::kStrayState});
  if (course.person() == nullptr && is_slowed(request)) return;  // otherwise it has begun
  if (converse(request)) return;
  if (shows_nothing(request)) {
    slowdown_->end(attempt);
    return proved(request, {false, decide::kNothingKept});
  }
  const identity::Claimed claimed{stored_of(request), course.way().user};
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

// Without the code that stands beside it.
OctetView Engine::password_in(const decide::Course& course, OctetView typed) {
  const auto field = decide::factor_in_field(course.request(), course.way());
  return decide::typed_parts(course.request(), course.way(), field, typed).password;
}

// An unknown user takes as long as one whose password is hashed, if the plan has such users.
void Engine::prove_typed(const Request& request) {
  using Password = decide::Person::Password;
  const decide::Course& course = *request.course;
  const decide::Person* person = course.person();
  const auto hidden = course.packet().find(AttributeType::user_password);
  auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
  if (!typed)
    return give(request,
                decide::Failure{{Outcome::malformed, "User-Password cannot be opened", typed.error().text}});
  const OctetView password = password_in(course, *typed);
  const identity::StoredPassword* stored = stored_of(request);
  if (stored == nullptr && person == nullptr) stored = request.live->plan->slow_password();
  if (person != nullptr && person->password != Password::not_asked) {
    typed_proved(request, {person->password == Password::right}, password);
  } else if (stored == nullptr || !stored->slow()) {
    typed_proved(request, {course.is_known() && stored->matches(password)}, password);
  } else if (may_begin(request)) {
    compare(request, *stored, password);
  }
  wipe(*typed);
}

void Engine::compare(const Request& request, const identity::StoredPassword& stored, OctetView typed) {
  const auto ticket = wait_comparing(request, kCompareWithin, true);
  if (!ticket) return;
  request.turn.out.jobs.push_back(
      {*ticket, Job::Compare{pending_.get(*ticket)->live->plan, &stored, Secret(text_of(typed))}});
}

void Engine::compared(const Request& request, Compared result) {
  const auto hidden = request.course->packet().find(AttributeType::user_password);
  auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
  typed_proved(request, {result.matches && request.course->is_known()}, password_in(*request.course, *typed));
  wipe(*typed);
}

void Engine::typed_proved(const Request& request, Compared result, OctetView typed) {
  const auto attempt = attempt_of(request);
  if (result.matches) {
    slowdown_->right(attempt);
    return proved(request, {true});
  }
  Proof out = why_wrong(*request.course);
  if (wire::looks_unreadable(typed)) {
    out.because = request.course->is_signed() ? decide::kUnreadableBefore : decide::kUnreadableHere;
  } else if (const plan::User* user = request.course->user()) {
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
  const bool waited = pending != nullptr && pending->comparing && request.course->person() == nullptr;
  request.given->push_back({request.age(), Given::Compared{proof, waited}});
  give(request, std::move(proof));
}

}  // namespace jembatan::engine
