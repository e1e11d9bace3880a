#include "admin/journal_calls.h"

#include <fmt/format.h>

#include <charconv>

#include <nlohmann/json.hpp>

#include "admin/accounting_calls.h"
#include "admin/answers.h"
#include "admin/json.h"
#include "admin/trust_calls.h"
#include "base/text.h"

namespace jembatan::admin {
namespace {

using namespace std::chrono_literals;
using nlohmann::json;

constexpr Duration kLongestUnmask = 1h;

std::string allowed_outcomes() {
  std::vector<std::string> names;
  for (std::size_t i = 0; i < engine::kOutcomes; ++i)
    names.emplace_back(engine::name_of(static_cast<engine::Outcome>(i)));
  return join(names, ", ");
}

std::optional<journal::Query> query_of(const Asked& asked) {
  const Request& request = asked.request;
  journal::Query out;
  const auto most = most_in(request, asked.response);
  const auto before = number_in(request, asked.response, "before", 0);
  if (!most || !before) return std::nullopt;
  out.most = *most;
  out.before = *before;
  out.user = request.get("user");
  out.client = request.get("client");
  out.outcome = request.get("outcome");
  out.text = request.get("text");
  out.realm = request.get("realm");
  const auto refuse = [&](const std::string& why) {
    problem(asked.response, 400, "Not understood", why);
    return std::nullopt;
  };
  for (const auto& [key, number] : {std::pair{"leg", &out.leg}, std::pair{"asked", &out.asked}}) {
    const std::string text = request.get(key);
    if (text.empty()) continue;
    const auto [end, failed] = std::from_chars(text.data(), text.data() + text.size(), *number, 16);
    if (failed != std::errc{} || end != text.data() + text.size() || *number == 0)
      return refuse(fmt::format("{} '{}'; allowed: 16 hexadecimal digits", key, escaped(text)));
  }
  static const std::vector<std::string> kParts{"user",  "client", "outcome", "text", "since", "until",
                                               "realm", "before", "most",    "leg",  "asked"};
  for (const auto& [key, value] : request.query) {
    if (std::find(kParts.begin(), kParts.end(), key) == kParts.end())
      return refuse(
          fmt::format("'{}' is no part of a search; allowed: {}", escaped(key), join(kParts, ", ")));
  }
  const std::string outcomes = allowed_outcomes();
  if (!out.outcome.empty() && (", " + outcomes + ",").find(", " + out.outcome + ",") == std::string::npos)
    return refuse(fmt::format("outcome '{}'; allowed: {}", escaped(out.outcome), outcomes));
  if (!moment_in(request, asked.response, "since", out.since) ||
      !moment_in(request, asked.response, "until", out.until))
    return std::nullopt;
  return out;
}

}  // namespace

void search_journal(const Asked& asked) {
  const auto query = query_of(asked);
  if (!query) return;
  const auto found = asked.server.past_requests().find(*query);
  if (!found) return problem(asked.response, found.error());
  json list = json::array();
  for (const journal::Entry& entry : found->entries) list.push_back(json_of(entry));
  answer(asked.response,
         {{"requests", list},
          {"stopped_before", found->stopped_before == 0 ? json(nullptr) : json(found->stopped_before)}});
}

void show_journal_entry(const Asked& asked) {
  const auto number = number_in(asked.request, asked.response, "number", 0);
  if (!number) return;
  const auto found = asked.server.past_requests().entry(*number);
  if (!found) return problem(asked.response, found.error());
  if (!*found) {
    return problem(asked.response, 404, "Not found",
                   fmt::format("request {} is not in the journal of node {}, or not any more", *number,
                               asked.server.settings().name));
  }
  const auto live = asked.server.plan();
  json out = json_of(**found, *live->plan->catalogue);
  if ((*found)->record != 0) {
    out["record"] = (*found)->record;
    out["delivery"] = way_of_record(asked, (*found)->record);
  }
  answer(asked.response, out);
}

void start_unmask(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"user", "for"});
  if (!body) return;
  const auto user = text_in(*body, "user");
  const auto text = text_in(*body, "for");
  const auto refuse = [&](const std::string& why) { problem(asked.response, 400, "Not understood", why); };
  if (!user || user->empty()) return refuse("'user' is missing; allowed: a user's name with its realm");
  const auto time = text ? parse_duration(*text) : Result<Duration>(text.error());
  if (!time || *time < Duration{0} || *time > kLongestUnmask)
    return refuse("'for' is no time; allowed: 0s (no more) to 1h");
  const auto detail = *time == Duration{0} ? std::string("ended") : "for " + jembatan::text_of(*time);
  if (!put_on_record(asked, audit_entry(asked, "password unmask", "user " + *user, detail))) return;
  asked.server.unmask().watch(*user, now() + *time, now());
  answer(asked.response, {{"user", *user}, {"until", jembatan::text_of(now() + *time)}});
}

void show_unmask(const Asked& asked) {
  const auto behind = number_in(asked.request, asked.response, "behind", 0);
  if (!behind) return;
  const std::string user = asked.request.get("user");
  const auto view = asked.server.unmask().view(user, *behind, now());
  if (!view)
    return problem(asked.response, 404, "Not found",
                   fmt::format("rejected passwords of user '{}' are not shown now", escaped(user)));
  json list = json::array();
  for (const auto& seen : view->seen) {
    list.push_back({{"number", seen.number},
                    {"at", jembatan::text_of(seen.at)},
                    {"client", seen.client},
                    {"password", escaped(seen.password.reveal())}});
  }
  answer(asked.response, {{"user", user}, {"until", jembatan::text_of(view->until)}, {"rejected", list}});
}

}  // namespace jembatan::admin
