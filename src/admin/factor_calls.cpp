// Second factors: who has which token, what has served of it, and what a wrong code has locked.
#include "admin/factor_calls.h"

#include <fmt/format.h>

#include <bit>

#include <nlohmann/json.hpp>

#include "admin/answers.h"
#include "admin/trust_calls.h"
#include "base/text.h"
#include "engine/remembered.h"
#include "engine/slowdown.h"
#include "host/system.h"
#include "identity/name.h"
#include "server/code_judge.h"

namespace jembatan::admin {
namespace {

using identity::CodePage;
using nlohmann::json;

json time_or_null(WallTime time) {
  return time == WallTime{} ? json() : json(text_of(time));
}

json row_of(const plan::Plan& plan, const plan::Enrolment& enrolment, const Result<CodePage>& page,
            WallTime now) {
  const identity::Token& token = enrolment.token;
  json out{{"name", token.name},
           {"user", enrolment.user},
           {"factor", plan.factors[enrolment.factor].name},
           {"counts", token.counts == identity::Token::Counts::time ? "time" : "uses"},
           {"last", json()},
           {"recovery_codes_left", identity::kRecoveryCodes},
           {"wrong", 0},
           {"locked_until", json()},
           {"problem", page ? "" : page.error().text}};
  if (!page) return out;
  out["wrong"] = page->wrong;
  if (now < page->locked_until) out["locked_until"] = text_of(page->locked_until);
  for (const CodePage::Used& used : page->used) {
    if (used.token != token.name || used.mark != identity::mark_of(token)) continue;
    out["last"] = time_or_null(used.last);
    out["recovery_codes_left"] =
        identity::kRecoveryCodes - static_cast<unsigned>(std::popcount(used.recovered));
  }
  return out;
}

bool has_tokens(const plan::Plan& plan, const std::string& user) {
  return plan.enrolment_table.find(identity::comparable(user)) != plan.enrolment_table.end();
}

Error nobody(const plan::Plan& plan, const std::string& user) {
  std::vector<std::string> users;
  for (const plan::Enrolment& one : plan.enrolments) users.push_back(one.user);
  const auto near = nearest(user, users);
  return fail(Errc::not_found, fmt::format("user '{}' has no token{}", escaped(user),
                                           near ? fmt::format("; nearest: '{}'", escaped(*near)) : ""));
}

}  // namespace

void list_enrolments(const Asked& asked) {
  const auto live = asked.server.plan();
  const plan::Plan& plan = *live->plan;
  const std::string user = identity::comparable(asked.request.get("user"));
  const WallTime now = host::SystemClock().now().wall;
  json list = json::array();
  for (const plan::Enrolment& one : plan.enrolments) {
    if (!user.empty() && identity::comparable(one.user) != user) continue;
    list.push_back(
        row_of(plan, one, asked.server.codes().page(plan.factors[one.factor].name, one.user), now));
  }
  answer(asked.response, {{"enrolments", std::move(list)}, {"plan_revision", live->revision}});
}

void try_code(const Asked& asked) {
  auto body = read_body(asked.request, asked.response, {"user", "factor", "code"});
  if (!body) return;
  auto user = text_in(*body, "user");
  auto name = text_in(*body, "factor");
  auto code = text_in(*body, "code");
  for (const auto* text : {&user, &name, &code})
    if (!*text) return problem(asked.response, text->error());
  const auto live = asked.server.plan();
  const plan::Plan& plan = *live->plan;
  if (!has_tokens(plan, *user)) return problem(asked.response, nobody(plan, *user));
  json results = json::array();
  bool right = false;
  for (std::size_t i = 0; i < plan.factors.size(); ++i) {
    if ((!name->empty() && plan.factors[i].name != *name) || plan.tokens_of(*user, i).empty()) continue;
    const auto verdict =
        asked.server.codes().try_out({live->plan, i, *user, Secret(*code), host::SystemClock().now().wall});
    if (!verdict) return problem(asked.response, verdict.error());
    right = right || verdict->is_right();
    results.push_back({{"factor", plan.factors[i].name},
                       {"right", verdict->is_right()},
                       {"text", identity::words_of(*verdict)}});
  }
  wipe(OctetSpan(reinterpret_cast<std::uint8_t*>(code->data()), code->size()));
  answer(asked.response, {{"user", *user}, {"right", right}, {"results", std::move(results)}});
}

void unlock_user(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"user"});
  if (!body) return;
  const auto user = text_in(*body, "user");
  if (!user) return problem(asked.response, user.error());
  const auto live = asked.server.plan();
  json factors = json::array();
  for (const plan::Factor& factor : live->plan->factors) {
    const auto was = asked.server.codes().unlock(factor.name, *user);
    if (!was) return problem(asked.response, was.error());
    if (*was) factors.push_back(factor.name);
  }
  if (!put_on_record(asked, audit_entry(asked, "user unlock", "user " + *user, ""))) return;
  const std::string name = identity::comparable(*user);
  answer(asked.response,
         {{"factors", std::move(factors)}, {"wrong_passwords", asked.server.slowdown().forget(name)}});
}

}  // namespace jembatan::admin
