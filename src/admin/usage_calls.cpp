// How much was used in a period, by whom or when.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "accounting/usage.h"
#include "admin/accounting_calls.h"
#include "admin/accounting_query.h"
#include "admin/answers.h"
#include "base/text.h"

namespace jembatan::admin {
namespace {

using accounting::Session;
using accounting::UsageRow;
using accounting::UsageWish;
using nlohmann::json;
using std::chrono::hours;

constexpr std::size_t kMostParts = 10000;

// `by` as a wish: parts of time, or whose the sessions are.
Status read_by(const std::string& by, const plan::PlanPtr& plan, UsageWish& wish) {
  static const std::map<std::string_view, std::string Session::*> kColumns{{"user", &Session::user},
                                                                           {"realm", &Session::realm},
                                                                           {"client", &Session::client},
                                                                           {"nas", &Session::nas}};
  constexpr std::string_view kLabel = "label:";
  if (const auto column = kColumns.find(by); column != kColumns.end()) {
    wish.whose = [member = column->second](const Session& session) { return session.*member; };
  } else if (by.starts_with(kLabel) && by.size() > kLabel.size()) {
    wish.whose = [plan, label = by.substr(kLabel.size())](const Session& session) {
      return label_of(*plan, session.client, label);
    };
  } else if (by == "day" || by == "hour") {
    wish.part = by == "day" ? hours(24) : hours(1);
  } else {
    return fail(
        Errc::malformed,
        fmt::format("by '{}'; allowed: user, realm, client, nas, label:NAME, day, hour", escaped(by)));
  }
  return {};
}

Result<std::vector<accounting::UsagePoint>> told_of(const Session& session, accounting::Store& store) {
  const auto records = store.records_of(session);
  if (!records) return records.error();
  std::vector<accounting::UsagePoint> out;
  for (const accounting::Record& record : *records) out.push_back(point_of(record));
  return out;
}

json row_json(const UsageRow& row) {
  return {{"whose", row.whose},
          {"sessions", row.sessions},
          {"time_s", row.seconds},
          {"input_octets", row.input_octets},
          {"output_octets", row.output_octets},
          {"peak", row.peak}};
}

}  // namespace

void show_usage(const Asked& asked) {
  auto query = accounting_query(asked, {"by"});
  if (!query) return;
  const auto part = asked.request.query.find("by");
  const std::string by = part == asked.request.query.end() ? "user" : part->second;
  UsageWish wish;
  if (const Status read = read_by(by, asked.server.plan()->plan, wish); !read)
    return problem(asked.response, 400, "Not understood", read.error().text);
  wish.until = query->until.value_or(now());
  wish.since = query->since.value_or(wish.until - hours(24));
  if (wish.since >= wish.until)
    return problem(asked.response, 400, "Not understood", "the period ends before it begins");
  if (wish.part.count() != 0 && (wish.until - wish.since) / wish.part > static_cast<std::int64_t>(kMostParts))
    return problem(asked.response, 400, "Not understood",
                   fmt::format("by {}: the period has more than {} of them", by, kMostParts));
  query->since = wish.since;
  query->until = wish.until;

  accounting::Usage usage(std::move(wish));
  Status told;  // whether each session's records could be read
  const Status counted = asked.server.with_accounting([&](accounting::Store& sessions) {
    return asked.server.with_accounting([&](accounting::Store& records) {
      return sessions.each_session(*query, [&](const Session& session) {
        if (!told) return;
        if (!usage.crosses(session)) return usage.add(session);
        const auto points = told_of(session, records);
        if (points) return usage.add(session, *points);
        told = points.error();
      });
    });
  });
  for (const Status& done : {counted, told})
    if (!done) return problem(asked.response, 507, "The store cannot be read", done.error().text);
  const std::vector<UsageRow> rows = usage.rows();
  json list = json::array();
  for (const UsageRow& row : rows) {
    if (list.size() >= query->most && (by != "day" && by != "hour")) break;
    list.push_back(row_json(row));
  }
  const std::size_t left_out = rows.size() - list.size();
  answer(asked.response, {{"by", by},
                          {"since", text_of(*query->since)},
                          {"until", text_of(*query->until)},
                          {"rows", std::move(list)},
                          {"left_out", left_out},
                          {"all", row_json(usage.all())}});
}

}  // namespace jembatan::admin
