#include "admin/answers.h"

#include <fmt/format.h>

#include <algorithm>

#include "admin/json.h"
#include "base/text.h"

namespace jembatan::admin {

using document::Kind;
using document::Value;
using nlohmann::json;

namespace {

constexpr const char* kJson = "application/json";
constexpr const char* kProblem = "application/problem+json";
constexpr int kMostNested = 8;
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
    {Errc::io, 507, "The store refused"},
    {Errc::not_genuine, 507, "The store holds what this node did not seal"},
};

}  // namespace

void answer(httplib::Response& response, const json& body) {
  response.set_content(body.dump(), kJson);
}

void problem(httplib::Response& response, int status, std::string_view title, const std::string& detail) {
  response.status = status;
  response.set_content(json{{"title", title}, {"status", status}, {"detail", detail}}.dump(), kProblem);
}

void problem(httplib::Response& response, const Error& error, const document::Problems& problems) {
  const auto* known = std::find_if(std::begin(kKinds), std::end(kKinds),
                                   [&](const Kinds& kind) { return kind.code == error.code; });
  const bool any = known != std::end(kKinds);
  json body = json_of(problems);
  body["title"] = any ? known->title : "Not understood";
  body["status"] = response.status = any ? known->status : 400;
  body["detail"] = error.text;
  response.set_content(body.dump(), kProblem);
}

std::optional<std::uint64_t> number_in(const httplib::Request& request, httplib::Response& response,
                                       const char* key, std::uint64_t absent) {
  if (!request.has_param(key)) return absent;
  const std::string text = request.get_param_value(key);
  if (!text.empty() && text.size() <= 18 && text.find_first_not_of("0123456789") == std::string::npos)
    return std::stoull(text);
  problem(response, 400, "Not understood", fmt::format("'{}={}' is no number", key, escaped(text)));
  return std::nullopt;
}

std::optional<std::size_t> most_in(const httplib::Request& request, httplib::Response& response) {
  const auto most = number_in(request, response, "most", kUsualRows);
  if (!most) return std::nullopt;
  return std::min<std::size_t>(*most, kMostRows);
}

std::optional<json> read_body(const httplib::Request& request, httplib::Response& response,
                              const std::vector<std::string>& allowed) {
  json body;
  try {
    body = json::parse(request.body);
  } catch (const json::parse_error& error) {
    problem(response, 400, "Not understood", fmt::format("the body is not JSON, at octet {}", error.byte));
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

Result<std::string> text_in(const json& body, const std::string& key) {
  const auto found = body.find(key);
  if (found == body.end() || found->is_null()) return std::string();
  if (found->is_string()) return found->get<std::string>();
  return fail(Errc::malformed, fmt::format("'{}' is {}; allowed: text", key, found->type_name()));
}

Result<Value> value_of(const json& body, int depth) {
  if (depth > kMostNested) return fail(Errc::malformed, "nested too deeply");
  Value out;
  if (body.is_string()) {
    out.kind = Kind::text;
    out.text = body.get<std::string>();
  } else if (body.is_number_unsigned() && body.get<std::uint64_t>() > INT64_MAX) {
    return fail(Errc::malformed, "a number is too large");
  } else if (body.is_number_integer()) {
    out.kind = Kind::integer;
    out.integer = body.get<std::int64_t>();
  } else if (body.is_number()) {
    out.kind = Kind::real;
    out.real = body.get<double>();
  } else if (body.is_boolean()) {
    out.kind = Kind::boolean;
    out.boolean = body.get<bool>();
  } else if (body.is_array()) {
    out.kind = Kind::array;
    for (const json& item : body) {
      auto value = value_of(item, depth + 1);
      if (!value) return value.error();
      out.items.push_back(std::move(*value));
    }
  } else if (body.is_object()) {
    for (const auto& [key, item] : body.items()) {
      auto value = value_of(item, depth + 1);
      if (!value) return value.error();
      out.entries.push_back({key, {}, std::move(*value)});
    }
  } else {
    return fail(Errc::malformed, "null is no value");
  }
  return out;
}

json json_of(const Value& value) {
  switch (value.kind) {
    case Kind::text:
      return value.text;
    case Kind::integer:
      return value.integer;
    case Kind::real:
      return value.real;
    case Kind::boolean:
      return value.boolean;
    case Kind::date_or_time:
      return nullptr;
    case Kind::array: {
      json out = json::array();
      for (const Value& item : value.items) out.push_back(json_of(item));
      return out;
    }
    case Kind::table: {
      json out = json::object();
      for (const document::Entry& entry : value.entries) out[entry.key] = json_of(entry.value);
      return out;
    }
  }
  return nullptr;
}

}  // namespace jembatan::admin
