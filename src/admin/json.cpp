#include "admin/json.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "bodies/attribute.h"
#include "dictionary/describe.h"
#include "journal/scrub.h"

namespace jembatan::admin {

using nlohmann::json;

json attributes_json(OctetView attributes, const dictionary::Catalogue& names) {
  json out = json::array();
  for (const auto& line : dictionary::describe(names, attributes)) {
    out.push_back({{"name", line.name}, {"value", bodies::json_of(line)}, {"depth", line.depth}});
  }
  return out;
}

namespace {

std::string cause_text(std::uint32_t cause) {
  const auto* definition = dictionary::standard().named("Acct-Terminate-Cause");
  const auto* named = definition->value_numbered(cause);
  return named == nullptr ? std::to_string(cause) : named->name;
}

json event_json(const engine::Event& event) {
  json out{{"kind", "request"},
           {"at", text_of(event.at)},
           {"outcome", std::string(engine::name_of(event.outcome))},
           {"from", event.source.text()},
           {"id", event.identifier},
           {"client", event.client},
           {"user", escaped(event.user)},
           {"realm", escaped(event.realm)},
           {"number", event.number},
           {"server", event.server},
           {"reason", engine::reason_text(event)},
           {"mend", event.mend},
           {"took_us", event.took.count()}};
  out["packet"] = event.code == wire::Code{} ? "" : wire::name_of(event.code);
  return out;
}

json notice_json(const engine::Notice& notice) {
  return {{"kind", "notice"}, {"at", text_of(notice.at)}, {"subject", notice.subject}, {"text", notice.text}};
}

}  // namespace

json json_of(const server::NodeStatus& status) {
  json outcomes = json::object();
  for (const auto& [outcome, count] : status.outcomes)
    outcomes[std::string(engine::name_of(outcome))] = count;
  return {{"name", status.name},
          {"version", status.version},
          {"plan_revision", status.plan_revision},
          {"up_s", status.up.count()},
          {"workers", status.workers},
          {"received", status.received},
          {"outcomes", outcomes},
          {"in_flight", status.in_flight},
          {"accounting_under_way", status.accounting_under_way},
          {"accounting_backlog", status.accounting_backlog},
          {"degraded", status.degraded},
          {"events_shed", status.events_shed},
          {"journal_shed", status.journal_shed}};
}

json json_of(const accounting::Session& session) {
  json out{{"number", session.id},
           {"client", session.client},
           {"nas", session.nas},
           {"port", session.port},
           {"session_id", session.session_id},
           {"user", session.user},
           {"realm", session.realm},
           {"calling_station", session.calling_station},
           {"framed_ip", session.framed_ip},
           {"started", text_of(session.started)},
           {"updated", text_of(session.updated)},
           {"heard", text_of(session.heard)},
           {"ended", nullptr},
           {"ended_by", nullptr},
           {"terminate_cause", nullptr},
           {"session_time_s", session.session_time},
           {"input_octets", session.input_octets},
           {"output_octets", session.output_octets}};
  if (session.ended) {
    out["ended"] = text_of(*session.ended);
    out["ended_by"] = accounting::name_of(session.ended_by);
    if (session.terminate_cause != 0) out["terminate_cause"] = cause_text(session.terminate_cause);
  }
  return out;
}

json json_of(const accounting::Record& record) {
  return {{"id", record.id},
          {"received", text_of(record.received)},
          {"event_time", text_of(record.event_time)},
          {"client", record.client},
          {"source", record.source.text()},
          {"nas", record.nas},
          {"port", record.port},
          {"status", accounting::name_of(record.status)},
          {"session_id", record.session_id},
          {"user", record.user},
          {"realm", record.realm},
          {"calling_station", record.calling_station},
          {"framed_ip", record.framed_ip},
          {"session_time_s", record.session_time},
          {"input_octets", record.input_octets},
          {"output_octets", record.output_octets},
          {"terminate_cause",
           record.terminate_cause == 0 ? json(nullptr) : json(cause_text(record.terminate_cause))}};
}

json json_of(const accounting::Record& record, const dictionary::Catalogue& names) {
  json out = json_of(record);
  out["attributes"] = attributes_json(record.attributes, names);
  return out;
}

namespace {

// As 16 hexadecimal digits: JSON's numbers are not that exact.
json leg_json(std::uint64_t leg) {
  return leg == 0 ? json(nullptr) : json(fmt::format("{:016x}", leg));
}

}  // namespace

json json_of(const journal::Entry& entry, const dictionary::Catalogue& names) {
  const auto attributes = [&](const Octets& packet) {
    const auto parsed = wire::PacketView::parse(packet);
    if (!parsed) return json(nullptr);
    json list = json::array();
    for (const auto& line : dictionary::describe(names, *parsed)) {
      const json value = journal::is_secret(line.path, names) ? json("(not kept)") : bodies::json_of(line);
      list.push_back({{"name", line.name}, {"value", value}, {"depth", line.depth}});
    }
    return json{{"packet", wire::name_of(parsed->code())}, {"attributes", list}};
  };
  json out = json_of(entry);
  out["trail"] = entry.trail;
  out["legs"] = json::array();
  for (const journal::Entry::Leg& leg : entry.legs)
    out["legs"].push_back({{"server", leg.server},
                           {"leg", leg_json(leg.leg)},
                           {"asked_us", leg.asked.count()},
                           {"answered_us", leg.answered ? json(leg.answered->count()) : json(nullptr)},
                           {"times", leg.times}});
  out["request"] = attributes(entry.request);
  out["reply"] = attributes(entry.reply);
  return out;
}

json json_of(const forward::Standing& standing) {
  const auto milliseconds = [](const std::optional<std::chrono::microseconds>& time) {
    return time ? json(static_cast<double>(time->count()) / 1000) : json(nullptr);
  };
  const auto percent = [](double share) { return std::round(share * 1000) / 10; };
  return {{"group", standing.group->name},
          {"server", standing.server->name},
          {"purpose", forward::name_of(standing.purpose)},
          {"address", forward::endpoint_of(*standing.server, standing.purpose).text()},
          {"priority", standing.server->priority},
          {"weight", standing.server->weight},
          {"state", forward::name_of(standing.state)},
          {"since", standing.since ? json(text_of(*standing.since)) : json(nullptr)},
          {"why", standing.why},
          {"requests", standing.requests},
          {"attempts", standing.attempts},
          {"answers", standing.answers},
          {"last_answer", standing.last_answer ? json(text_of(*standing.last_answer)) : json(nullptr)},
          {"in_flight", standing.in_flight},
          {"recent_attempts", standing.recent.attempts},
          {"recent_answers", standing.recent.answered},
          {"median_ms", milliseconds(standing.median)},
          {"p99_ms", milliseconds(standing.p99)},
          {"wanted_percent", percent(standing.wanted)},
          {"percent", percent(standing.share)}};
}

json json_of(const journal::Entry& entry) {
  return {{"number", entry.number},    {"at", text_of(entry.at)},       {"outcome", entry.outcome},
          {"packet", entry.packet},    {"client", entry.client},        {"from", entry.source},
          {"user", entry.user},        {"realm", entry.realm},          {"server", entry.server},
          {"reason", entry.reason},    {"took_us", entry.took.count()}, {"plan_revision", entry.revision},
          {"leg", leg_json(entry.leg)}};
}

json json_of(const std::variant<engine::Event, engine::Notice>& item) {
  if (const auto* event = std::get_if<engine::Event>(&item)) return event_json(*event);
  return notice_json(std::get<engine::Notice>(item));
}

json json_of(const engine::MirrorTally& tally) {
  json examples = json::array();
  for (const auto& example : tally.examples)
    examples.push_back({{"time", text_of(example.at)},
                        {"user", example.user},
                        {"client", example.client},
                        {"text", example.text}});
  return {{"of", tally.of},
          {"to", tally.to},
          {"same", tally.same},
          {"differed", tally.differed},
          {"unanswered", tally.unanswered},
          {"shed", tally.shed},
          {"by_what", tally.by_what},
          {"examples", examples}};
}

json json_of_resolved(const revision::Applied& applied) {
  std::map<std::string, std::vector<std::string>> hosts;
  const auto add = [&hosts](const std::string& host, const IpAddress& address) {
    if (!host.empty()) hosts[host].push_back(address.text());
  };
  for (const auto& change : applied.changes) {
    if (change.after == nullptr) continue;
    if (change.kind == "client") {
      if (const plan::Client* client = applied.plan->client_named(change.name))
        add(client->host, client->address.address);
    }
    for (const plan::Group& group : applied.plan->groups) {
      if (change.kind != "group" || group.name != change.name) continue;
      for (const plan::Server& server : group.servers) add(server.host, server.address);
    }
  }
  json out = json::object();
  for (const auto& [host, addresses] : hosts) out[host] = join(addresses, ", ");
  return out;
}

}  // namespace jembatan::admin
