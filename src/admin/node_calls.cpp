#include "admin/node_calls.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "admin/answers.h"
#include "admin/json.h"
#include "admin/metrics.h"
#include "base/text.h"

namespace jembatan::admin {
namespace {

using nlohmann::json;

constexpr std::size_t kMostRows = 10000;

// The query's parts; nothing (and a problem) if one of them is not understood.
std::optional<accounting::Query> read_query(const Asked& asked) {
  accounting::Query out;
  for (const auto& [key, value] : asked.request.query) {
    if (key == "user") {
      out.user = value;
    } else if (key == "session_id") {
      out.session_id = value;
    } else if (key == "client") {
      out.client = value;
    } else if (key == "realm") {
      out.realm = value;
    } else if (key == "since" || key == "until") {
      if (!moment_in(asked.request, asked.response, key.c_str(), key == "since" ? out.since : out.until))
        return std::nullopt;
    } else if (key == "open" && (value == "true" || value == "false")) {
      out.open_only = value == "true";
    } else if (key == "most" && !value.empty() && value.size() < 6 &&
               value.find_first_not_of("0123456789") == std::string::npos && std::stoul(value) <= kMostRows) {
      out.most = std::stoul(value);
    } else {
      problem(asked.response, 400, "Not understood",
              fmt::format("'{}={}' is no part of a query; allowed: user, session_id, client, realm, since, "
                          "until, open=true|false, "
                          "most=0 to {}",
                          escaped(key), escaped(value), kMostRows));
      return std::nullopt;
    }
  }
  return out;
}

// One row that cannot be shown does not take the others with it.
template <class Row, class BodyOf>
json body_or_mark(const Row& row, BodyOf body_of) {
  try {
    return body_of(row);
  } catch (const std::exception& error) {
    return {{"damaged", escaped(error.what())}};
  }
}

template <class Row, class BodyOf>
void rows(const Asked& asked, const char* name,
          Result<std::vector<Row>> (accounting::Store::*find)(const accounting::Query&), BodyOf body_of) {
  const auto query = read_query(asked);
  if (!query) return;
  const auto found =
      asked.server.with_accounting([&](accounting::Store& store) { return (store.*find)(*query); });
  if (!found) return problem(asked.response, 507, "The store cannot be read", found.error().text);
  json list = json::array();
  for (const Row& row : *found) list.push_back(body_or_mark(row, body_of));
  answer(asked.response, {{name, list}});
}

}  // namespace

void show_metrics(const Asked& asked) {
  asked.response.type = "text/plain; version=0.0.4";
  asked.response.body = metrics_text(asked.server, asked.callers);
}

void show_node(const Asked& asked) {
  answer(asked.response, json_of(asked.server.status()));
}

void list_sessions(const Asked& asked) {
  rows<accounting::Session>(asked, "sessions", &accounting::Store::sessions,
                            [](const accounting::Session& session) { return json_of(session); });
}

void list_records(const Asked& asked) {
  const auto live = asked.server.plan();
  rows<accounting::Record>(
      asked, "records", &accounting::Store::records,
      [&](const accounting::Record& record) { return json_of(record, *live->plan->catalogue); });
}

// Groups with records that wait, and those to which some were sent since the start.
void show_queue(const Asked& asked) {
  const auto waiting = asked.server.with_accounting([](accounting::Store& store) { return store.queue(); });
  if (!waiting) return problem(asked.response, 507, "The store cannot be read", waiting.error().text);
  const auto progress = asked.server.accounting_progress();
  std::map<std::string, json> by_group;
  for (const auto& [group, how] : progress) {
    json& row = by_group[group];
    row = {{"group", group},
           {"records", 0},
           {"oldest", nullptr},
           {"acknowledged", how.acknowledged},
           {"last_acknowledged", how.last ? json(text_of(*how.last)) : json(nullptr)},
           {"per_second", std::round(how.per_second * 10) / 10},
           {"problem", how.problem},
           {"problem_since", how.problem_since ? json(text_of(*how.problem_since)) : json(nullptr)}};
  }
  const auto live = asked.server.plan();
  for (const accounting::QueueDepth& depth : *waiting) {
    json& row = by_group[depth.group];
    if (row.is_null())
      row = {{"group", depth.group}, {"acknowledged", 0}, {"last_acknowledged", nullptr},
             {"per_second", 0.0},    {"problem", ""},     {"problem_since", nullptr}};
    row["records"] = depth.records;
    row["oldest"] = text_of(depth.oldest);
    const auto& groups = live->plan->groups;
    if (std::none_of(groups.begin(), groups.end(), [&](const auto& one) { return one.name == depth.group; }))
      row["problem"] = "the plan has no group of this name: its records wait until there is one";
  }
  json list = json::array();
  for (auto& [group, row] : by_group) list.push_back(std::move(row));
  answer(asked.response, {{"queue", list}});
}

}  // namespace jembatan::admin
