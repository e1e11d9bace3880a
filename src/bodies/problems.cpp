#include "bodies/problems.h"

#include <nlohmann/json.hpp>

namespace jembatan::bodies {

using nlohmann::json;

json json_of(const document::Problems& problems) {
  json list = json::array();
  for (const document::Problem& problem : problems.list()) {
    list.push_back({{"level", problem.level == document::Level::error ? "error" : "advice"},
                    {"file", problem.file},
                    {"line", problem.at.line},
                    {"column", problem.at.column},
                    {"text", problem.text},
                    {"allowed", problem.allowed},
                    {"shown", problem.line},
                    {"width", problem.width},
                    {"rule", problem.rule},
                    {"mend", problem.mend}});
  }
  return {{"errors", problems.errors()}, {"advice", problems.advice()}, {"problems", list}};
}

document::Problems problems_in(const json& body) {
  document::Problems out;
  if (!body.is_object()) return out;
  for (const json& row : body.value("problems", json::array())) {
    document::Problem problem;
    problem.level = row.value("level", "") == "advice" ? document::Level::advice : document::Level::error;
    problem.file = row.value("file", "");
    problem.at = {row.value("line", 1U), row.value("column", 1U)};
    problem.text = row.value("text", "");
    problem.allowed = row.value("allowed", "");
    problem.line = row.value("shown", "");
    problem.width = row.value("width", std::size_t{1});
    problem.rule = row.value("rule", "");
    problem.mend = row.value("mend", "");
    out.add(std::move(problem));
  }
  return out;
}

}  // namespace jembatan::bodies
