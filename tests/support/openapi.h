#pragma once
// docs/openapi.yaml, held against what a node really answers.
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

namespace jembatan::support {

class OpenApi {
 public:
  OpenApi();
  /// What is wrong with an answer: a status that is not described, a key that is not, another type, a
  /// required key that is missing. Empty: nothing.
  ///   call  "GET /v1/node", without a query
  std::vector<std::string> problems_of(const std::string& call, int status, const std::string& type,
                                       const std::string& body) const;

 private:
  nlohmann::json resolved(const nlohmann::json& part) const;
  void compare(const nlohmann::json& schema, const nlohmann::json& value, const std::string& place,
               std::vector<std::string>& out) const;
  std::shared_ptr<const nlohmann::json> document_;
};

}  // namespace jembatan::support
