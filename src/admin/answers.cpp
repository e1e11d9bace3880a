#include "admin/answers.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "bodies/depth.h"
#include "bodies/problems.h"
#include "host/system.h"

namespace jembatan::admin {

using nlohmann::json;

namespace {

constexpr const char* kJson = "application/json";
constexpr const char* kProblem = "application/problem+json";
constexpr std::size_t kDeepestBody = 32;
constexpr std::size_t kUsualRows = 100;
constexpr std::size_t kMostRows = 100000;

struct Kinds {
  Errc code;
  int status;
  std::string_view title;
};
constexpr Kinds kKinds[] = {
    {Errc::not_found, 404, "Not found"},
    {Errc::not_allowed, 403, "Not allowed"},
    {Errc::conflict, 409, "Conflict"},
    {Errc::malformed, 422, "The plan would have errors"},
    {Errc::busy, 503, "Busy"},
    {Errc::unreachable, 503, "Not reached"},
    {Errc::io, 507, "The store refused"},
    {Errc::not_genuine, 507, "The store holds what this node did not seal"},
};

}  // namespace

std::string json_text(const json& body) {
  return body.dump(-1, ' ', false, json::error_handler_t::replace);
}

void answer(Response& response, const json& body) {
  response.type = kJson;
  response.body = json_text(body);
}

void problem(Response& response, int status, std::string_view title, const std::string& detail) {
  response.status = status;
  response.type = kProblem;
  response.body = json_text(json{{"title", title}, {"status", status}, {"detail", detail}});
}

void problem(Response& response, const Error& error, const document::Problems& problems) {
  const auto* known = std::find_if(std::begin(kKinds), std::end(kKinds),
                                   [&](const Kinds& kind) { return kind.code == error.code; });
  const bool any = known != std::end(kKinds);
  json body = problems.list().empty() ? json::object() : bodies::json_of(problems);
  body["title"] = any ? known->title : "Not understood";
  body["status"] = response.status = any ? known->status : 400;
  body["detail"] = error.text;
  response.type = kProblem;
  response.body = json_text(body);
}

std::optional<std::uint64_t> number_in(const Request& request, Response& response, const char* key,
                                       std::uint64_t absent) {
  if (!request.has(key)) return absent;
  const std::string text = request.get(key);
  if (!text.empty() && text.size() <= 18 && text.find_first_not_of("0123456789") == std::string::npos)
    return std::stoull(text);
  problem(response, 400, "Not understood", fmt::format("'{}={}' is no number", key, escaped(text)));
  return std::nullopt;
}

std::optional<std::size_t> most_in(const Request& request, Response& response) {
  const auto most = number_in(request, response, "most", kUsualRows);
  if (!most) return std::nullopt;
  return std::min<std::size_t>(*most, kMostRows);
}

std::optional<json> read_body(const Request& request, Response& response,
                              const std::vector<std::string>& allowed) {
  if (bodies::depth_of(request.body) > kDeepestBody) {
    problem(response, 400, "Not understood",
            fmt::format("the body is nested more than {} levels deep", kDeepestBody));
    return std::nullopt;
  }
  json body;
  try {
    body = json::parse(request.body);
  } catch (const json::parse_error& error) {
    problem(response, 400, "Not understood", fmt::format("the body is not JSON, at octet {}", error.byte));
    return std::nullopt;
  } catch (const json::exception&) {  // a number beyond what a number can be
    problem(response, 400, "Not understood", "the body has a number that is too large");
    return std::nullopt;
  }
  if (!body.is_object()) {
    problem(response, 400, "Not understood",
            "the body is not a JSON object; its keys: " + join(allowed, ", "));
    return std::nullopt;
  }
  for (const auto& [key, value] : body.items()) {
    if (std::find(allowed.begin(), allowed.end(), key) != allowed.end()) continue;
    const auto near = nearest(key, allowed);
    problem(response, 400, "Not understood",
            fmt::format("unknown key '{}'; allowed: {}{}", escaped(key), join(allowed, ", "),
                        near ? fmt::format("; nearest: '{}'", *near) : ""));
    return std::nullopt;
  }
  return body;
}

bool moment_in(const Request& request, Response& response, const char* key, std::optional<WallTime>& out) {
  if (!request.has(key)) return true;
  const auto time = parse_moment(request.get(key), host::SystemClock().now().wall);
  if (!time) {
    problem(response, 400, "Not understood", time.error().at(key).text);
    return false;
  }
  out = *time;
  return true;
}

Result<std::string> text_in(const json& body, const std::string& key) {
  const auto found = body.find(key);
  if (found == body.end() || found->is_null()) return std::string();
  if (found->is_string()) return found->get<std::string>();
  return fail(Errc::malformed, fmt::format("'{}' is {}; allowed: text", key, found->type_name()));
}

}  // namespace jembatan::admin
