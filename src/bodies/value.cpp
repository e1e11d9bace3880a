#include "bodies/value.h"

#include <nlohmann/json.hpp>

namespace jembatan::bodies {

using document::Kind;
using document::Value;
using nlohmann::json;

namespace {

constexpr int kMostNested = 8;

}  // namespace

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

}  // namespace jembatan::bodies
