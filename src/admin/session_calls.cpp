#include "admin/session_calls.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "accounting/sessions.h"
#include "admin/answers.h"
#include "admin/json.h"
#include "admin/trust_calls.h"
#include "base/text.h"
#include "dictionary/encode.h"
#include "server/authorizer.h"

namespace jembatan::admin {
namespace {

using nlohmann::json;
using wire::Code;

constexpr std::size_t kMostAttributes = 64;

// The open session of the body's number, with what its device knows it by.
Result<engine::SessionRequest> request_about(const Asked& asked, const json& body, Code code) {
  const auto number = body.find("number");
  if (number == body.end() || !number->is_number_unsigned())
    return fail(Errc::malformed, "'number' is missing; allowed: the number of an open session");
  accounting::Query query;
  query.id = number->get<std::int64_t>();
  engine::SessionRequest out;
  out.code = code;
  const auto found =
      asked.server.with_accounting([&](accounting::Store& store) { return store.sessions(query); });
  if (!found) return found.error();
  if (found->empty())
    return fail(Errc::not_found, fmt::format("there is no session {}; open ones have the numbers that "
                                             "jembatan session list tells",
                                             *query.id));
  out.of.session = found->front();
  if (out.of.session.ended)
    return fail(Errc::conflict,
                fmt::format("session {} has ended at {}", accounting::session_number(*query.id),
                            text_of(*out.of.session.ended)));
  const auto records = asked.server.records_of(out.of.session);
  if (!records) return records.error();
  if (records->empty())
    return fail(Errc::conflict, fmt::format("the records of session {} are kept no longer",
                                            accounting::session_number(*query.id)));
  out.of.device = records->back().source;
  out.attributes = engine::identification_of(*records);
  return out;
}

// [{"name": …, "value": …}]
Result<Octets> attributes_in(const json& body, const dictionary::Catalogue& names) {
  const auto list = body.find("attributes");
  if (list == body.end() || !list->is_array() || list->empty() || list->size() > kMostAttributes)
    return fail(
        Errc::malformed,
        fmt::format("'attributes' is missing or empty; allowed: 1 to {} of {{\"name\": \"Filter-Id\", "
                    "\"value\": \"harbour-only\"}}",
                    kMostAttributes));
  Octets out;
  for (const json& one : *list) {
    if (!one.is_object() || !one.contains("name") || !one["name"].is_string() || !one.contains("value") ||
        !(one["value"].is_string() || one["value"].is_number_integer()))
      return fail(Errc::malformed, "'attributes' holds something else than a name with a text or a number");
    const std::string value =
        one["value"].is_string() ? one["value"].get<std::string>() : one["value"].dump();
    const auto encoded = dictionary::encode(names, one["name"].get<std::string>(), value);
    if (!encoded && encoded.error().code == Errc::not_allowed)
      return fail(Errc::not_allowed,
                  "hidden attributes cannot be sent in a CoA-Request: its Request "
                  "Authenticator hides nothing");
    if (!encoded) return encoded.error();
    append(out, *encoded);
  }
  return out;
}

json answer_json(const engine::SessionRequest& request, const engine::SessionAnswer& came,
                 const dictionary::Catalogue& names) {
  json out = {{"number", request.of.session.id},
              {"user", request.of.session.user},
              {"asked", wire::name_of(request.code)},
              {"client", came.device},
              {"answer", nullptr},
              {"error_cause", nullptr},
              {"why", came.why_not}};
  if (came.at.port != 0) out["at"] = came.at.text();
  if (came.code == Code{}) return out;
  out["answer"] = wire::name_of(came.code);
  out["took_us"] = came.took.count();
  out["attributes"] = attributes_json(came.attributes, names);
  const Octets whole = accounting::as_packet(came.attributes);
  const auto cause = wire::number_in(wire::PacketView::parse(whole)->find(wire::AttributeType::error_cause));
  if (cause) out["error_cause"] = *cause;
  return out;
}

void ask_device(const Asked& asked, const json& body, Code code) {
  const auto live = asked.server.plan();
  auto request = request_about(asked, body, code);
  const auto refuse = [&](const Error& error) {
    if (error.code != Errc::malformed) return problem(asked.response, error);
    problem(asked.response, 400, "Not understood", error.text);
  };
  if (!request) return refuse(request.error());
  std::string detail = "end it";
  if (code == Code::coa_request) {
    const auto attributes = attributes_in(body, *live->plan->catalogue);
    if (!attributes) return problem(asked.response, 400, "Not understood", attributes.error().text);
    append(request->attributes, *attributes);
    detail = fmt::format("change it: {} attributes", body["attributes"].size());
  }
  const std::string subject =
      fmt::format("session {} of {}", accounting::session_number(request->of.session.id),
                  escaped(request->of.session.user));
  if (!put_on_record(asked, audit_entry(asked, "session", subject, detail))) return;
  const auto came = asked.server.authorizer().ask(*request);
  if (!came) return problem(asked.response, 503, "Stopping", came.error().text);
  answer(asked.response, answer_json(*request, *came, *live->plan->catalogue));
}

}  // namespace

void disconnect_session(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"number"});
  if (body) ask_device(asked, *body, Code::disconnect_request);
}

void change_session(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"number", "attributes"});
  if (body) ask_device(asked, *body, Code::coa_request);
}

}  // namespace jembatan::admin
