#include "admin/accounting_calls.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "admin/accounting_query.h"
#include "admin/answers.h"
#include "admin/json.h"
#include "admin/trust_calls.h"
#include "base/text.h"

namespace jembatan::admin {
namespace {

using nlohmann::json;

// One row that cannot be shown does not take the others with it.
template <class Row, class BodyOf>
json body_or_mark(const Row& row, BodyOf body_of) {
  try {
    return body_of(row);
  } catch (const std::exception& error) {
    return {{"damaged", escaped(error.what())}};
  }
}

//   others  parts of the query that the call reads itself
template <class Row, class BodyOf>
void rows(const Asked& asked, const char* name,
          Result<std::vector<Row>> (accounting::Store::*find)(const accounting::Query&), BodyOf body_of,
          std::initializer_list<std::string_view> others = {}) {
  const auto query = accounting_query(asked, others);
  if (!query) return;
  const auto found =
      asked.server.with_accounting([&](accounting::Store& store) { return (store.*find)(*query); });
  if (!found) return problem(asked.response, 507, "The store cannot be read", found.error().text);
  json list = json::array();
  for (const Row& row : *found) list.push_back(body_or_mark(row, body_of));
  answer(asked.response, {{name, list}});
}

json delivery_json(const accounting::Delivered& one) {
  if (const std::string node = accounting::handed_over_to(one); !node.empty())
    return {{"group", one.group}, {"handed_over_to", node}, {"handed_over", text_of(one.acknowledged)}};
  return {
      {"group", one.group},
      {"server", one.server},
      {"sent", text_of(one.sent)},
      {"acknowledged", text_of(one.acknowledged)},
      {"took_ms", std::chrono::duration_cast<std::chrono::milliseconds>(one.acknowledged - one.sent).count()},
      {"digest", to_hex(one.digest)}};
}

// The record itself as it is listed, with what is known of its way.
json whole_record(const accounting::Record& record, const accounting::Whereabouts& where,
                  const dictionary::Catalogue& names) {
  json out = json_of(record, names);
  out["key"] = to_hex(record.key);
  out["digest"] = to_hex(record.digest);
  out["has_evidence"] = where.has_evidence;
  out["delivered"] = json::array();
  for (const accounting::Delivered& one : where.delivered) out["delivered"].push_back(delivery_json(one));
  out["waiting"] = json::array();
  for (const accounting::SetAside& one : where.waiting)
    out["waiting"].push_back(
        {{"group", one.group}, {"set_aside", one.why.empty() ? json(nullptr) : json(one.why)}});
  return out;
}

}  // namespace

std::vector<std::string> way_of_record(const Asked& asked, std::int64_t id) {
  std::vector<std::string> out;
  const auto where =
      asked.server.with_accounting([&](accounting::Store& store) { return store.whereabouts(id); });
  if (!where) return out;
  for (const accounting::Delivered& one : where->delivered) {
    const std::string node = accounting::handed_over_to(one);
    out.push_back(node.empty()
                      ? fmt::format("sent to {}: {} acknowledged after {} ms", one.group, one.server,
                                    std::chrono::duration_cast<Duration>(one.acknowledged - one.sent).count())
                      : fmt::format("handed over to node {}, which sends it to {}", node, one.group));
  }
  for (const accounting::SetAside& one : where->waiting)
    out.push_back(one.why.empty()
                      ? fmt::format("waits for group {}: jembatan accounting queue tells why", one.group)
                      : fmt::format("set aside for group {}: {}", one.group, one.why));
  return out;
}

void list_sessions(const Asked& asked) {
  const auto live = asked.server.plan();
  rows<accounting::Session>(asked, "sessions", &accounting::Store::sessions,
                            [&](const accounting::Session& session) {
                              json out = json_of(session);
                              out["place"] = label_of(*live->plan, session.client, "place");
                              return out;
                            });
}

void list_records(const Asked& asked) {
  const auto live = asked.server.plan();
  const std::string attributes = asked.request.get("attributes");
  if (!attributes.empty() && attributes != "true" && attributes != "false")
    return problem(asked.response, 400, "Not understood",
                   fmt::format("'attributes={}'; allowed: true, false", escaped(attributes)));
  rows<accounting::Record>(asked, "records", &accounting::Store::records,
                           [&](const accounting::Record& record) {
                             return attributes == "false" ? json_of(record)
                                                          : json_of(record, *live->plan->catalogue);
                           },
                           {"attributes"});
}

// One record, where it went and where it has still to go.
void show_record(const Asked& asked) {
  const auto id = number_in(asked.request, asked.response, "number", 0);
  if (!id) return;
  accounting::Query query;
  query.id = static_cast<std::int64_t>(*id);
  const auto found =
      asked.server.with_accounting([&](accounting::Store& store) { return store.records(query); });
  if (!found) return problem(asked.response, 507, "The store cannot be read", found.error().text);
  if (found->empty())
    return problem(asked.response, 404, "Not found",
                   fmt::format("there is no record {}: it was never given, or is kept no longer", *id));
  const auto where =
      asked.server.with_accounting([&](accounting::Store& store) { return store.whereabouts(*query.id); });
  if (!where) return problem(asked.response, 507, "The store cannot be read", where.error().text);
  answer(asked.response, whole_record(found->front(), *where, *asked.server.plan()->plan->catalogue));
}

// What waits for a group goes to another one, or to nobody.
void redirect_queue(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"group", "to"});
  if (!body) return;
  const auto group = text_in(*body, "group");
  const auto to = text_in(*body, "to");
  const auto refuse = [&](const std::string& why) { problem(asked.response, 400, "Not understood", why); };
  if (!group || group->empty())
    return refuse("'group' is missing; allowed: the name of a group with records that wait");
  if (!to)
    return refuse("'to' is no text; allowed: the name of a group of the plan; without it, they are dropped");
  const auto live = asked.server.plan();
  const auto known = place_of(live->plan->groups, *to, "group");
  if (!to->empty() && !known) return problem(asked.response, known.error());
  if (*to == *group) return refuse(fmt::format("they wait for group '{}' already", escaped(*to)));
  const std::string detail = to->empty() ? "dropped" : "sent to group " + *to + " instead";
  if (!put_on_record(asked, audit_entry(asked, "accounting queue", "group " + *group, detail))) return;
  const auto count =
      asked.server.redirect_accounting(*group, to->empty() ? std::nullopt : std::optional<std::string>(*to));
  if (!count) return problem(asked.response, 507, "The store cannot be written", count.error().text);
  answer(asked.response,
         {{"group", *group}, {"to", to->empty() ? json(nullptr) : json(*to)}, {"records", *count}});
}

void show_accounting_store(const Asked& asked) {
  const auto days = asked.server.with_accounting([](accounting::Store& store) { return store.stored(); });
  if (!days) return problem(asked.response, 507, "The store cannot be read", days.error().text);
  json list = json::array();
  for (const accounting::StoredDay& day : *days)
    list.push_back({{"day", day.date}, {"records", day.records}, {"octets", day.octets}});
  const accounting::Housekeeping& how = asked.server.settings().housekeeping;
  answer(asked.response, {{"days", list},
                          {"backlog", asked.server.status().accounting_backlog},
                          {"keep_s", how.keep.count() == 0 ? json(nullptr) : json(how.keep.count() * 3600)},
                          {"most_octets", how.most_octets == 0 ? json(nullptr) : json(how.most_octets)}});
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
           {"set_aside", 0},
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
    row["set_aside"] = depth.set_aside;
    if (depth.set_aside > 0) row["problem"] = fmt::format("{} set aside: {}", depth.set_aside, depth.why);
    const auto& groups = live->plan->groups;
    if (std::none_of(groups.begin(), groups.end(), [&](const auto& one) { return one.name == depth.group; }))
      row["problem"] =
          "the plan has no group of this name: its records wait until there is one, or until they are sent "
          "elsewhere or dropped (jembatan accounting redirect, accounting drop)";
  }
  json list = json::array();
  for (auto& [group, row] : by_group) list.push_back(std::move(row));
  answer(asked.response, {{"queue", list}});
}

}  // namespace jembatan::admin
