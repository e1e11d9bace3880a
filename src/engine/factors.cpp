// Second factors: codes that were typed, or that are asked for by an Access-Challenge.
#include <fmt/format.h>

#include "base/text.h"
#include "engine/engine.h"
#include "engine/resume.h"
#include "identity/name.h"
#include "wire/hidden.h"

namespace jembatan::engine {

using decide::FactorProof;
using wire::AttributeType;

namespace {

constexpr Duration kJudgeWithin{10000};
constexpr std::string_view kCannotJudge = "what has served of one-time codes cannot be looked at";
constexpr std::string_view kNoAnswerTyped = "the answer to the challenge has no User-Password";

const plan::Factor& factor_of(const decide::Course& course) {
  return course.request().plan.factors[course.factor()];
}

void add_number(Octets& to, AttributeType type, std::uint32_t value) {
  std::uint8_t octets[4];
  store32(octets, value);
  wire::append_attribute(to, type, octets);
}

// Who is asked for a code sees what for, for how long, and not what is typed (RFC 2869 §5.10, RFC 2865
// §5.27).
Octets question_of(const plan::Factor& factor) {
  constexpr std::uint32_t kNoEcho = 0;
  Octets out;
  wire::append_attribute(out, AttributeType::reply_message, view_of(factor.message));
  add_number(out, AttributeType::prompt, kNoEcho);
  const auto seconds = std::chrono::floor<std::chrono::seconds>(factor.answer_within);
  add_number(out, AttributeType::session_timeout, static_cast<std::uint32_t>(seconds.count()));
  return out;
}

// All that must be the same for a factor not to be asked for again; empty: the station is not told.
std::string key_of(const decide::Course& course, const std::vector<identity::Token>& tokens) {
  const std::string station = lower(wire::text_in(course.packet().find(AttributeType::calling_station_id)));
  if (station.empty()) return {};
  std::string out = identity::comparable(course.way().full_name) + "\n" + factor_of(course).name;
  for (const identity::Token& token : tokens) out += fmt::format("\n{:x}", identity::mark_of(token));
  return out + "\n" + station;
}

}  // namespace

void Engine::prove_factor(const Request& request) {
  const decide::Course& course = *request.course;
  const plan::Factor& factor = factor_of(course);
  const auto tokens = request.live->plan->tokens_of(course.way().full_name, course.factor());
  if (tokens.empty()) return note_and_give(request, FactorProof{factor.name, false, decide::kNotEnrolled});
  if (factor.remember > Duration{0} && remembered_->has(key_of(course, tokens), request.turn.now.steady))
    return note_and_give(request,
                         FactorProof{factor.name, true, {}, "not asked for: this station was, lately"});
  const bool answers = course.resumed() != nullptr && course.resumed()->asked == factor.name;
  const auto field = decide::factor_in_field(course.request(), course.way());
  if (!answers && field != course.factor()) return ask_code(request, course.so_far(), decide::kCodeAsked, "");
  const auto hidden = course.packet().find(AttributeType::user_password);
  if (!hidden) {
    const auto because = answers ? kNoAnswerTyped : decide::kCodeHidden;
    return note_and_give(request, FactorProof{factor.name, false, because});
  }
  auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
  if (!typed)
    return give(request,
                decide::Failure{{Outcome::malformed, "User-Password cannot be opened", typed.error().text}});
  const OctetView code =
      answers ? OctetView(*typed) : decide::typed_parts(course.request(), course.way(), field, *typed).code;
  if (answers || !code.empty()) {
    judge(request, Secret(text_of(code)));
  } else {
    note_and_give(request, FactorProof{factor.name, false, decide::kNoCode});
  }
  wipe(*typed);
}

void Engine::judge(const Request& request, Secret code) {
  Job::Judge job{request.live->plan, request.course->factor(), request.course->way().full_name,
                 std::move(code), request.turn.now.wall};
  const auto ticket = wait(request, kJudgeWithin);
  if (!ticket) return;
  pending_.get(*ticket)->judging = true;
  request.turn.out.jobs.push_back({*ticket, std::move(job)});
}

void Engine::judged(const Request& request, const Judged& result) {
  const decide::Course& course = *request.course;
  const plan::Factor& factor = factor_of(course);
  pending_.get(request.ticket)->judging = false;
  if (!result.verdict)
    return note_and_give(request, FactorProof{factor.name, false, kCannotJudge, result.verdict.error().text});
  using What = identity::CodeVerdict::What;
  const identity::CodeVerdict& verdict = *result.verdict;
  const std::string words = identity::words_of(verdict);
  if (verdict.is_right()) {
    const auto tokens = request.live->plan->tokens_of(course.way().full_name, course.factor());
    const std::string key = factor.remember > Duration{0} ? key_of(course, tokens) : "";
    if (!key.empty()) remembered_->put(key, request.turn.now.steady + factor.remember);
    return note_and_give(request, FactorProof{factor.name, true, {}, words});
  }
  const decide::Resumed* resumed = course.resumed();
  const bool answers = resumed != nullptr && resumed->asked == factor.name;
  const bool once_more = verdict.what == What::wrong || verdict.what == What::used;
  if (!answers || !once_more || resumed->tries + 1 >= factor.tries)
    return note_and_give(request, FactorProof{factor.name, false,
                                              once_more ? decide::kWrongCode : decide::kCodesLocked, words});
  decide::Resumed next = *resumed;
  ++next.tries;
  ask_code(request, std::move(next), decide::kCodeAskedAgain, words);
}

void Engine::ask_code(const Request& request, decide::Resumed so_far, std::string_view because,
                      const std::string& detail) {
  const plan::Factor& factor = factor_of(*request.course);
  decide::Challenge challenge{question_of(factor), because, fmt::format("'{}'", factor.name)};
  if (!detail.empty()) challenge.detail += ": " + detail;
  Conversation conversation;
  conversation.client = request.client.name;
  conversation.user = request.course->way().full_name;
  conversation.resumed = std::make_shared<const decide::Resumed>(std::move(so_far));
  challenge_with(request, std::move(challenge), std::move(conversation), factor.answer_within);
}

}  // namespace jembatan::engine
