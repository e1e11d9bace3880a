// What came of what a request waited for: it goes on with that.
#include "engine/engine.h"
#include "engine/resume.h"

namespace jembatan::engine {

using wire::AttributeType;

void Engine::on_done(Ticket ticket, const JobResult& result, const Turn& turn) {
  owner_.check();
  if (pending_.get(ticket) == nullptr) return counters_.late();
  resume(ticket, turn, [&](const Request& request) {
    if (const auto* made = std::get_if<Compared>(&result)) return compared(request, *made);
    if (const auto* kept = std::get_if<Result<accounting::Kept>>(&result)) return recorded(request, *kept);
    if (const auto* found = std::get_if<LookedUp>(&result)) return looked_up(request, *found);
    if (const auto* made = std::get_if<Judged>(&result)) return judged(request, *made);
    not_done(request, std::get<NotDone>(result).because);
  });
}

void Engine::recorded(const Request& request, const Result<accounting::Kept>& kept) {
  if (!kept) {
    return give(request, decide::Failure{{Outcome::not_recorded,
                                          "the store refused the record; the client will try again",
                                          kept.error().text}});
  }
  const auto status = number_in(request.course->packet().find(AttributeType::acct_status_type)).value_or(0);
  note_and_give(
      request, decide::Kept{kept->duplicate, accounting::name_of(static_cast<accounting::StatusType>(status)),
                            kept->id});
}

void Engine::not_done(const Request& request, std::string_view because) {
  if (pending_.get(request.ticket)->looking_up) {
    decide::Person nobody;
    nobody.why = because;
    return looked_up(request, {std::make_shared<const decide::Person>(std::move(nobody)), {}});
  }
  if (pending_.get(request.ticket)->judging) return judged(request, {fail(Errc::busy, std::string(because))});
  if (pending_.get(request.ticket)->comparing) slowdown_->end(attempt_of(request));
  give(request, decide::Failure{{Outcome::overloaded, because}});
}

void Engine::on_timer(const Turn& turn) {
  owner_.check();
  for (const Crossings::GivenUp& given_up : crossings_.on_timer(turn))
    silent(given_up.owner, given_up.why, turn);
  while (!deadlines_.empty() && deadlines_.top().at <= turn.now.steady) {
    const Ticket ticket = deadlines_.top().ticket;
    deadlines_.pop();
    if (pending_.get(ticket) == nullptr) continue;
    resume(ticket, turn, [&](const Request& request) { not_done(request, "it was not done in time"); });
  }
}

}  // namespace jembatan::engine
