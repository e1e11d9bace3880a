#include "cli/reconciled.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/csv.h"
#include "cli/listing.h"

namespace jembatan::cli {
namespace {

using accounting::Findings;
using nlohmann::json;

constexpr std::size_t kMostTold = 100;  // of each kind, with what the records say

std::string entry_text(const accounting::Entry& one, const json& record) {
  std::string out = one.id == 0 ? "  " + to_hex(one.key) : fmt::format("  record {}", one.id);
  out += fmt::format("  {} UTC", short_time(text_of(one.event_time)));
  if (record.is_object())
    out += fmt::format("  {}  {}  session {}", record.value("status", ""), escaped(record.value("user", "")),
                       escaped(record.value("session_id", "")));
  return out;
}

// A record as its node has it; null if that is not at hand.
json record_of(Side& side, const accounting::Entry& one) {
  if (!side.node || one.id == 0) return nullptr;
  const auto body = side.node->call("GET", "/v1/accounting/record", {{"number", std::to_string(one.id)}});
  return body ? *body : json(nullptr);
}

json attributes_of(const json& record) {
  json out = json::object();
  if (!record.is_object()) return out;
  for (const json& attribute : record.at("attributes")) {
    const std::string name = attribute.value("name", "");
    if (name != "Acct-Delay-Time") out[name].push_back(attribute.at("value"));
  }
  return out;
}

// "Acct-Input-Octets here 10, there 12"; each attribute whose values differ.
json differences_of(const json& here, const json& there) {
  const json a = attributes_of(here);
  const json b = attributes_of(there);
  json out = json::array();
  const auto tell = [&](const std::string& name) {
    const json left = a.value(name, json());
    const json right = b.value(name, json());
    if (left != right) out.push_back({{"attribute", name}, {"here", left}, {"there", right}});
  };
  for (const auto& [name, value] : a.items()) tell(name);
  for (const auto& [name, value] : b.items())
    if (!a.contains(name)) tell(name);
  return out;
}

std::string values_text(const json& values) {
  if (!values.is_array()) return "nothing";
  std::vector<std::string> out;
  for (const json& one : values)
    out.push_back(one.is_string() ? escaped(one.get<std::string>()) : one.dump());
  return join(out, ", ");
}

std::string why_only_here(const accounting::Entry& one, const std::string& sent_to) {
  if (one.sent && !one.acknowledged) return "; another node of its plan has taken it over";
  if (one.sent) return fmt::format("; acknowledged {} UTC", short_time(text_of(*one.acknowledged)));
  return sent_to.empty() ? "; no group has acknowledged it" : fmt::format("; it waits for group {}", sent_to);
}

// The findings with what the records say, as rows: which kind, and which record.
json findings_json(const Findings& found, Side& here, Side& there, const std::string& sent_to) {
  json rows = json::array();
  const auto add = [&](const char* kind, const std::vector<accounting::Entry>& entries, Side& side) {
    std::size_t told = 0;
    for (const accounting::Entry& one : entries) {
      const json record = told++ < kMostTold ? record_of(side, one) : json(nullptr);
      const bool missing = std::string_view(kind) == "only_here";
      rows.push_back({{"kind", kind},
                      {"text", entry_text(one, record) + (missing ? why_only_here(one, sent_to) : "")},
                      {"id", one.id},
                      {"key", to_hex(one.key)},
                      {"event_time", text_of(one.event_time)},
                      {"received", text_of(one.received)}});
    }
  };
  add("only_here", found.only_here, here);
  add("only_there", found.only_there, there);
  add("double_here", found.double_here, here);
  add("double_there", found.double_there, there);
  std::size_t told = 0;
  for (const accounting::Differing& one : found.different) {
    const bool whole = told++ < kMostTold;
    const json left = whole ? record_of(here, one.here) : json(nullptr);
    const json right = whole ? record_of(there, one.there) : json(nullptr);
    rows.push_back(
        {{"kind", "different"},
         {"text", entry_text(one.here, left)},
         {"id", one.here.id},
         {"id_there", one.there.id},
         {"key", to_hex(one.here.key)},
         {"event_time", text_of(one.here.event_time)},
         {"received", text_of(one.here.received)},
         {"values", left.is_object() && right.is_object() ? differences_of(left, right) : json(nullptr)}});
  }
  add("late_here", found.late_here.first, here);
  add("late_there", found.late_there.first, there);
  return rows;
}

std::string kind_text(const std::string& kind, const json& body) {
  const std::string here = body.value("here", "");
  const std::string there = body.value("there", "");
  if (kind == "only_here") return "only at " + here;
  if (kind == "only_there") return "only at " + there;
  if (kind == "double_here") return "double at " + here;
  if (kind == "double_there") return "double at " + there;
  if (kind == "late_here") return "late at " + here;
  if (kind == "late_there") return "late at " + there;
  return "different";
}

constexpr std::array kKinds{"only_here", "only_there", "double_here", "double_there",
                            "different", "late_here",  "late_there"};

std::string gap_text(const json& body) {
  const Duration ahead(body.value("clock_ahead_ms", std::int64_t{0}));
  const Duration within(body.value("clock_give_or_take_ms", std::int64_t{0}));
  const std::string whose = fmt::format("clock of {}:", body.value("there", ""));
  if (std::chrono::abs(ahead) <= within)
    return fmt::format("{} the same as that of {}, within {}", whose, body.value("here", ""),
                       text_of(within + std::chrono::abs(ahead)));
  return fmt::format("{} {} {} that of {}, give or take {}", whose, text_of(std::chrono::abs(ahead)),
                     ahead.count() < 0 ? "behind" : "ahead of", body.value("here", ""), text_of(within));
}

}  // namespace

json told_json(const Findings& found, Side& here, Side& there, const std::string& sent_to) {
  json out{{"here", here.name},
           {"there", there.name},
           {"records_here", found.records_here},
           {"records_there", found.records_there},
           {"agree", found.agree()},
           {"counts",
            {{"only_here", found.only_here.size()},
             {"only_there", found.only_there.size()},
             {"double_here", found.double_here.size()},
             {"double_there", found.double_there.size()},
             {"different", found.different.size()},
             {"late_here", found.late_here.count},
             {"late_there", found.late_there.count}}},
           {"clock_ahead_ms", nullptr},
           {"findings", findings_json(found, here, there, sent_to)}};
  if (found.clocks) {
    out["clock_ahead_ms"] = found.clocks->ahead.count();
    out["clock_give_or_take_ms"] = found.clocks->give_or_take.count();
  }
  return out;
}

void print_compared(const json& body, Terminal& out) {
  const std::string here = body.value("here", "");
  const std::string there = body.value("there", "");
  out.line(out.coloured(fmt::format("{} and {}: {} and {} records", here, there,
                                    body.value("records_here", 0UL), body.value("records_there", 0UL)),
                        Colour::bold));
  for (const char* kind : kKinds) {
    const auto count = body.at("counts").value(kind, std::uint64_t{0});
    if (count > 0) out.line(fmt::format("  {:<18}{:>8}", kind_text(kind, body), count));
  }
  if (!body.at("clock_ahead_ms").is_null()) out.line("  " + gap_text(body));
  std::string last;
  for (const json& row : body.at("findings")) {
    const std::string kind = row.value("kind", "");
    if (kind != last) out.line(out.coloured(kind_text(kind, body), Colour::bold));
    last = kind;
    out.line(row.value("text", ""));
    if (!row.contains("values") || !row.at("values").is_array()) continue;
    for (const json& one : row.at("values"))
      out.line(fmt::format("      {}: {} at {}, {} at {}", one.value("attribute", ""),
                           values_text(one.at("here")), here, values_text(one.at("there")), there));
  }
  out.line(body.value("agree", false) ? out.coloured("they agree", Colour::good)
                                      : out.coloured("they differ", Colour::bad));
}

void print_findings_csv(const json& all, Terminal& out) {
  out.line("here,there,finding,record,key,event_time,received,attribute,value_here,value_there");
  for (const json& body : all) {
    for (const json& row : body.at("findings")) {
      const std::string begin =
          fmt::format("{},{},{},{},{},{},{}", csv_cell(body.value("here", "")),
                      csv_cell(body.value("there", "")), row.value("kind", ""), row.value("id", 0),
                      row.value("key", ""), row.value("event_time", ""), row.value("received", ""));
      const json values = row.value("values", json::array());
      if (!values.is_array() || values.empty()) out.line(begin + ",,,");
      if (!values.is_array()) continue;
      for (const json& one : values)
        out.line(fmt::format("{},{},{},{}", begin, csv_cell(one.value("attribute", "")),
                             csv_cell(values_text(one.at("here"))), csv_cell(values_text(one.at("there")))));
    }
  }
}

}  // namespace jembatan::cli
