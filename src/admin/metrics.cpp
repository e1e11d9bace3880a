#include "admin/metrics.h"

#include <fmt/format.h>

#include <algorithm>

#include "admin/callers.h"
#include "host/system.h"
#include "server/directories.h"

namespace jembatan::admin {
namespace {

// A label's value: backslash, quote and newline are escaped.
std::string label(std::string_view value) {
  std::string out;
  for (const char c : value) {
    if (c == '\\' || c == '"') out += '\\';
    out += c == '\n' ? ' ' : c;
  }
  return out.empty() ? "none" : out;
}

class Page {
 public:
  void metric(std::string_view name, std::string_view type, std::string_view help) {
    name_ = name;
    text_ += fmt::format("# HELP {} {}\n# TYPE {} {}\n", name, help, name, type);
  }
  void value(std::uint64_t value, std::string_view labels = "") {
    text_ += fmt::format("{}{}{}{} {}\n", name_, labels.empty() ? "" : "{", labels, labels.empty() ? "" : "}",
                         value);
  }
  void single(std::string_view name, std::string_view type, std::string_view help, std::uint64_t number) {
    metric(name, type, help);
    value(number);
  }
  void tally(std::string_view name, std::string_view what, const server::Tally::Counts& counts) {
    metric(name, "counter",
           fmt::format("Datagrams by {} and outcome; beyond {} of them: other", what,
                       server::Tally::kMostNames));
    for (const auto& [who, row] : counts) {
      for (std::size_t i = 0; i < row.size(); ++i) {
        if (row[i] == 0) continue;
        value(row[i], fmt::format("{}=\"{}\",outcome=\"{}\"", what, label(who),
                                  engine::name_of(static_cast<engine::Outcome>(i))));
      }
    }
  }
  std::string text() && { return std::move(text_); }

 private:
  std::string name_;
  std::string text_;
};

}  // namespace

std::string metrics_text(const server::Server& server, const Callers& callers) {
  const server::NodeStatus status = server.status();
  const auto live = server.plan();
  Page page;
  page.single("jembatan_received_total", "counter", "Datagrams received", status.received);
  page.single("jembatan_conversations", "gauge", "Conversations of several rounds that wait for the next",
              status.conversations);
  page.single("jembatan_conversations_pushed_out_total", "counter",
              "Conversations that ended early for want of room", status.conversations_pushed_out);
  page.single("jembatan_late_results_total", "counter",
              "Results of comparing or keeping that came when nobody waited for them any more", status.late);
  page.metric("jembatan_outcomes_total", "counter", "Datagrams by outcome; they add up to those received");
  for (const auto& [outcome, count] : status.outcomes)
    page.value(count, fmt::format("outcome=\"{}\"", engine::name_of(outcome)));
  page.tally("jembatan_client_outcomes_total", "client", server.tally().by_client());
  page.tally("jembatan_realm_outcomes_total", "realm", server.tally().by_realm());
  page.metric("jembatan_server_asked_total", "counter", "Attempts at servers that requests are forwarded to");
  const auto each_server = [&](const auto& number) {
    for (std::size_t g = 0; g < live->plan->groups.size(); ++g) {
      const plan::Group& group = live->plan->groups[g];
      for (const auto purpose : forward::kPurposesOfGroups) {
        for (std::size_t s = 0; s < group.servers.size(); ++s) {
          page.value(number(*live->health_of(g, purpose)[s]),
                     fmt::format("group=\"{}\",server=\"{}\",purpose=\"{}\"", label(group.name),
                                 label(group.servers[s].name), forward::name_of(purpose)));
        }
      }
    }
  };
  each_server([](const forward::ServerHealth& health) { return health.asked_count(); });
  page.metric("jembatan_server_answered_total", "counter", "Genuine replies of those servers");
  each_server([](const forward::ServerHealth& health) { return health.answered_count(); });
  page.metric("jembatan_server_down", "gauge", "1: the server counts as down");
  each_server([](const forward::ServerHealth& health) { return std::uint64_t{health.down() ? 1U : 0U}; });
  page.metric("jembatan_server_in_flight", "gauge", "Requests that wait for it");
  each_server([](const forward::ServerHealth& health) {
    return static_cast<std::uint64_t>(std::max<std::int64_t>(0, health.in_flight()));
  });
  page.metric("jembatan_server_answer_p99_microseconds", "gauge",
              "Within which 99 of 100 answers of the last minutes came; 0: there were none");
  const TimePoint now = host::SystemClock().now().steady;
  each_server([now](const forward::ServerHealth& health) {
    return static_cast<std::uint64_t>(
        health.times().within(0.99, now).value_or(std::chrono::microseconds{0}).count());
  });
  page.metric("jembatan_directory_people_total", "counter",
              "People who were looked for: found out by a server, remembered, or not answered");
  const auto each_directory = [&](const auto& show) {
    for (const plan::Directory& directory : live->plan->directories)
      show(fmt::format("directory=\"{}\"", label(directory.name)), server.directories().standing(directory));
  };
  each_directory([&](const std::string& labels, const server::DirectoryStanding& one) {
    page.value(one.looked_up, labels + ",by=\"server\"");
    page.value(one.by_memory, labels + ",by=\"memory\"");
    page.value(one.unanswered, labels + ",by=\"nobody\"");
  });
  page.metric("jembatan_directory_waiting", "gauge", "People whose turn at a directory has not come");
  each_directory([&](const std::string& labels, const server::DirectoryStanding& one) {
    page.value(one.waiting, labels);
  });
  page.metric("jembatan_directory_server_down", "gauge", "1: the server of a directory does not answer");
  each_directory([&](const std::string& labels, const server::DirectoryStanding& one) {
    for (const auto& at : one.servers)
      page.value(at.why.empty() ? 0 : 1, fmt::format("{},server=\"{}\"", labels, label(at.url)));
  });
  page.metric("jembatan_accounting_acknowledged_total", "counter", "Records that a group acknowledged");
  for (const auto& [group, how] : server.accounting_progress())
    page.value(how.acknowledged, fmt::format("group=\"{}\"", label(group)));
  page.metric("jembatan_mirrored_total", "counter", "Copies of requests to mirrors, by what came of them");
  for (const engine::MirrorTally& one : server.mirrors()) {
    for (const auto& [what, count] : {std::pair{"same", one.same},
                                      {"differed", one.differed},
                                      {"unanswered", one.unanswered},
                                      {"shed", one.shed}})
      page.value(count, fmt::format("of=\"{}\",to=\"{}\",result=\"{}\"", label(one.of), label(one.to), what));
  }
  page.single("jembatan_in_flight", "gauge", "Requests being worked on", status.in_flight);
  page.single("jembatan_accounting_backlog", "gauge",
              "Records that are acknowledged and durable, and not in the store yet",
              status.accounting_backlog);
  page.single("jembatan_accounting_under_way", "gauge", "Records on their way to a group",
              status.accounting_under_way);
  page.single("jembatan_events_shed_total", "counter", "Log events that were not written",
              status.events_shed);
  page.single("jembatan_journal_shed_total", "counter", "Requests that the journal does not have",
              status.journal_shed);
  page.single("jembatan_management_refused_total", "counter",
              "Requests of the API without a token of this node", callers.refused());
  page.single("jembatan_plan_revision", "gauge", "Revision of the plan in force", status.plan_revision);
  page.single("jembatan_plan_clients", "gauge", "Clients in the plan", live->plan->clients.size());
  page.single("jembatan_degraded", "gauge", "1 while the shared database, or the plan in it, is not followed",
              status.degraded.empty() ? 0 : 1);
  if (status.certificate_expires) {
    const auto since = status.certificate_expires->time_since_epoch();
    page.single("jembatan_certificate_expires_seconds", "gauge",
                "When the management interface's certificate expires, in seconds since 1970",
                static_cast<std::uint64_t>(std::chrono::duration_cast<std::chrono::seconds>(since).count()));
  }
  page.single("jembatan_up_seconds", "gauge", "Seconds since the start",
              static_cast<std::uint64_t>(status.up.count()));
  return std::move(page).text();
}

}  // namespace jembatan::admin
