// People who are in a directory: who they are, and what it says of their password.
#include "engine/engine.h"
#include "engine/resume.h"
#include "wire/hidden.h"

namespace jembatan::engine {

using wire::AttributeType;

namespace {

// Each server may take its time, for the person and for each level of groups; the rest is waiting for a turn.
Duration look_up_within(const plan::Directory& directory) {
  constexpr Duration kLongest{60000};
  const auto servers = static_cast<int>(directory.access.servers.size());
  return std::min(kLongest, directory.access.answer_within * (servers + 2));
}

}  // namespace

// A password that is guessed too often is not tried there either: it would lock the account.
void Engine::look_up(const Request& request) {
  const decide::Course& course = *request.course;
  const plan::Directory& directory = *course.directory();
  const decide::Way& way = course.way();
  const bool proves = way.credential.method != "none";
  if (is_stray(request)) return proved(request, {false, decide::kStrayState});
  if (proves && (is_slowed(request) || !may_begin(request))) return;
  Job::LookUp job{
      request.live->plan,       *way.entry->directory, way.user, way.realm, way.full_name, {}, false,
      look_up_within(directory)};
  if (way.credential.method == "pap" && directory.passwords == plan::Directory::Passwords::bind) {
    const auto hidden = course.packet().find(AttributeType::user_password);
    auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
    if (!typed) {
      slowdown_->end(attempt_of(request));
      return give(request, decide::Failure{
                               {Outcome::malformed, "User-Password cannot be opened", typed.error().text}});
    }
    job.typed = Secret(text_of(password_in(course, *typed)));
    wipe(*typed);
  } else {
    job.stored = proves;
  }
  if (const auto ticket = wait_comparing(request, job.within, proves)) {
    pending_.get(*ticket)->looking_up = true;
    request.turn.out.jobs.push_back({*ticket, std::move(job)});
  }
}

void Engine::looked_up(const Request& request, const LookedUp& result) {
  Pending& pending = *pending_.get(request.ticket);
  pending.looking_up = false;
  pending.stored = result.stored;
  if (result.person->found == decide::Person::Found::no_answer && pending.comparing)
    slowdown_->end(attempt_of(request));
  note_and_give(request, result.person);
}

}  // namespace jembatan::engine
