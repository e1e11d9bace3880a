#include "support/openapi.h"

#include <fmt/format.h>
#include <yaml-cpp/yaml.h>

#include <algorithm>
#include <nlohmann/json.hpp>

namespace jembatan::support {
namespace {

using nlohmann::json;

json json_of(const YAML::Node& node) {
  if (node.IsMap()) {
    json out = json::object();
    for (const auto& entry : node) out[entry.first.as<std::string>()] = json_of(entry.second);
    return out;
  }
  if (node.IsSequence()) {
    json out = json::array();
    for (const auto& item : node) out.push_back(json_of(item));
    return out;
  }
  if (!node.IsScalar()) return nullptr;
  const std::string text = node.Scalar();
  if (node.Tag() != "!" && (text == "true" || text == "false")) return text == "true";
  return text;
}

bool has_type(const json& value, const std::string& type) {
  if (type == "object") return value.is_object();
  if (type == "array") return value.is_array();
  if (type == "string") return value.is_string();
  if (type == "integer") return value.is_number_integer();
  if (type == "number") return value.is_number();
  return type == "boolean" && value.is_boolean();
}

}  // namespace

OpenApi::OpenApi()
    : document_(std::make_shared<const json>(
          json_of(YAML::LoadFile(std::string(JEMBATAN_SOURCE_DIR) + "/docs/openapi.yaml")))) {}

json OpenApi::resolved(const json& part) const {
  const auto reference = part.find("$ref");
  if (reference != part.end())
    return resolved(document_->at(json::json_pointer(reference->get<std::string>().substr(1))));
  if (!part.contains("allOf")) return part;
  json out = json::object();
  for (const json& one : part["allOf"]) out.merge_patch(resolved(one));
  return out;
}

void OpenApi::compare(const json& given, const json& value, const std::string& place,
                      std::vector<std::string>& out) const {
  const json schema = resolved(given);
  if (value.is_null() && schema.value("nullable", false)) return;
  const std::string type = schema.value("type", "");
  if (!type.empty() && !has_type(value, type)) {
    out.push_back(fmt::format("{} is {}, not {}", place, value.type_name(), type));
    return;
  }
  if (schema.contains("enum")) {
    const json& allowed = schema["enum"];
    if (std::find(allowed.begin(), allowed.end(), value) == allowed.end())
      out.push_back(fmt::format("{} is {}", place, value.dump()));
  }
  if (type == "array" && schema.contains("items")) {
    for (std::size_t i = 0; i < value.size(); ++i)
      compare(schema["items"], value[i], fmt::format("{}[{}]", place, i), out);
  }
  if (type != "object") return;
  for (const json& key : schema.value("required", json::array()))
    if (!value.contains(key.get<std::string>()))
      out.push_back(fmt::format("{} has no {}", place, key.dump()));
  if (!schema.contains("properties")) return;
  for (const auto& [key, inner] : value.items()) {
    if (schema["properties"].contains(key)) {
      compare(schema["properties"][key], inner, place + "." + key, out);
    } else if (schema.contains("additionalProperties")) {
      compare(schema["additionalProperties"], inner, place + "." + key, out);
    } else {
      out.push_back(fmt::format("{}.{} is not described", place, key));
    }
  }
}

std::vector<std::string> OpenApi::problems_of(const std::string& call, int status, const std::string& type,
                                              const std::string& body) const {
  const std::size_t space = call.find(' ');
  const std::string method = call.substr(0, space) == "GET" ? "get" : "post";
  const json& responses = document_->at("paths").at(call.substr(space + 1)).at(method).at("responses");
  const auto known = responses.find(std::to_string(status));
  if (known == responses.end()) return {fmt::format("{} answers {}: not described", call, status)};
  const json response = resolved(*known);
  if (!response.contains("content")) return {};
  const json& content = response["content"];
  if (!content.contains(type)) return {fmt::format("{} answers with {}", call, type)};
  if (type.find("json") == std::string::npos) return {};
  std::vector<std::string> out;
  compare(content[type]["schema"], json::parse(body), call, out);
  return out;
}

}  // namespace jembatan::support
