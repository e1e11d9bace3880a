#include "cli/across.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "base/text.h"
#include "cli/listing.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;
using Microseconds = std::chrono::microseconds;

constexpr int kMostHops = 16;

std::string leg_of(const json& of) {
  return of.contains("leg") && of.at("leg").is_string() ? of.at("leg").get<std::string>() : "";
}

std::string ms_text(double us) {
  return fmt::format("{:.1f} ms", us / 1000);
}

double took_of(const Hop& hop) {
  return hop.entry->value("took_us", 0.0);
}

// Whether a server answered it, and how long after it was asked.
std::optional<double> wait_of(const json& leg) {
  if (!leg.at("answered_us").is_number()) return std::nullopt;
  return leg.at("answered_us").get<double>() - leg.at("asked_us").get<double>();
}

Hop down_from(std::string node, Document entry, Journals& journals, std::set<std::string>& seen) {
  Hop out{std::move(node), std::move(entry), {}};
  for (const json& leg : out.entry->value("legs", json::array())) {
    Hop::Sent& sent = out.sent.emplace_back();
    sent.leg = std::make_shared<const json>(leg);
    const std::string name = leg_of(leg);
    if (name.empty() || seen.size() >= kMostHops || !seen.insert(name).second) continue;
    if (auto found = journals.find(name, Journals::As::received))
      sent.there.push_back(down_from(std::move(found->node), std::move(found->entry), journals, seen));
  }
  return out;
}

// By how much the clock of a hop is ahead of the one before: its part of the time lies in the middle of the
// other's wait, if both ways take equally long. Nothing while that is within what cannot be told.
std::optional<double> ahead_of(const Hop& before, const Hop::Sent& sent) {
  const auto wait = wait_of(*sent.leg);
  const Hop& there = sent.there.front();
  const auto ended = [](const Hop& hop) { return parse_time(hop.entry->value("at", "")); };
  const auto here_ended = ended(before);
  const auto there_ended = ended(there);
  if (!wait || !here_ended || !there_ended) return std::nullopt;
  const auto us = [](WallTime time) {
    return static_cast<double>(std::chrono::duration_cast<Microseconds>(time.time_since_epoch()).count());
  };
  const double asked = us(*here_ended) - took_of(before) + sent.leg->at("asked_us").get<double>();
  const double middle_here = asked + *wait / 2;
  const double middle_there = us(*there_ended) - took_of(there) / 2;
  const double ahead = middle_there - middle_here;
  const double cannot_be_told =
      std::max(*wait - took_of(there), 0.0) / 2 + 2000;  // times are whole milliseconds
  return std::abs(ahead) > cannot_be_told + 20000 ? std::optional(ahead) : std::nullopt;
}

/// One line of the ladder.
struct Rung {
  double at = 0;  // microseconds, by the first hop's clock
  std::size_t depth = 0;
  std::string node;
  std::string what;
  std::string outcome;  // empty: it goes on
};

/// Times of one hop by the first hop's clock: its own clock does not matter.
void add_rungs(const Hop& hop, double arrived, std::size_t depth, std::vector<Rung>& out) {
  const std::string outcome = hop.entry->value("outcome", "");
  out.push_back({arrived, depth, hop.node,
                 fmt::format("← {} from client {} (request {})", hop.entry->value("packet", ""),
                             hop.entry->value("client", ""), hop.entry->value("number", 0)),
                 ""});
  for (const Hop::Sent& sent : hop.sent) {
    const double asked = arrived + sent.leg->at("asked_us").get<double>();
    const int times = sent.leg->value("times", 1);
    const auto wait = wait_of(*sent.leg);
    out.push_back({asked, depth, hop.node,
                   fmt::format("→ {}{}", sent.leg->value("server", ""),
                               times > 1 ? fmt::format(", {} times", times) : ""),
                   ""});
    if (sent.there.empty()) {
      out.push_back({asked, depth + 1, "?", "no node that is known has it", ""});
    } else {
      const double there = took_of(sent.there.front());
      add_rungs(sent.there.front(), asked + (wait ? std::max(*wait - there, 0.0) / 2 : 0), depth + 1, out);
    }
    if (wait) {
      out.push_back(
          {asked + *wait, depth, hop.node, fmt::format("{} answered", sent.leg->value("server", "")), ""});
    }
  }
  out.push_back({arrived + took_of(hop), depth, hop.node,
                 fmt::format("{}: {}", outcome, hop.entry->value("reason", "")), outcome});
}

// How long a hop waited for what it sent: until the answer, the next server's turn, or its end.
double spent_on(const Hop& hop, std::size_t place) {
  const double asked = hop.sent[place].leg->at("asked_us").get<double>();
  if (const auto wait = wait_of(*hop.sent[place].leg)) return *wait;
  const bool last = place + 1 == hop.sent.size();
  return (last ? took_of(hop) : hop.sent[place + 1].leg->at("asked_us").get<double>()) - asked;
}

/// Where the time went: at each hop by itself, between two of them, and in vain.
void add_times(const Hop& hop, std::vector<std::pair<std::string, double>>& out) {
  double alone = took_of(hop);
  for (std::size_t i = 0; i < hop.sent.size(); ++i) alone -= spent_on(hop, i);
  out.emplace_back(hop.node, std::max(alone, 0.0));
  for (std::size_t i = 0; i < hop.sent.size(); ++i) {
    const Hop::Sent& sent = hop.sent[i];
    const std::string server = sent.leg->value("server", "");
    if (!wait_of(*sent.leg)) {
      out.emplace_back("in vain for " + server, spent_on(hop, i));
    } else if (sent.there.empty()) {
      out.emplace_back("beyond, at " + server, spent_on(hop, i));
    } else {
      const Hop& there = sent.there.front();
      out.emplace_back(fmt::format("between {} and {}", hop.node, there.node),
                       std::max(spent_on(hop, i) - took_of(there), 0.0));
      add_times(there, out);
    }
  }
}

// The hop that decided: the last one that has no answer of another.
const Hop& decided(const Hop& hop) {
  const std::string server = hop.entry->value("server", "");
  for (const Hop::Sent& sent : hop.sent)
    if (!sent.there.empty() && sent.leg->value("server", "") == server) return decided(sent.there.front());
  return hop;
}

void add_clocks(const Hop& hop, std::vector<std::string>& out) {
  for (const Hop::Sent& sent : hop.sent) {
    if (sent.there.empty()) continue;
    if (const auto ahead = ahead_of(hop, sent))
      out.push_back(fmt::format("the clock of {} is some {:.1f} s {} that of {}", sent.there.front().node,
                                std::abs(*ahead) / 1e6, *ahead > 0 ? "ahead of" : "behind", hop.node));
    add_clocks(sent.there.front(), out);
  }
}

}  // namespace

Hop way_of(std::string node, Document entry, Journals& journals) {
  std::set<std::string> seen;
  for (int i = 0; i < kMostHops; ++i) {  // back to where it came from
    const std::string leg = leg_of(*entry);
    if (leg.empty() || !seen.insert("back " + leg).second) break;
    auto before = journals.find(leg, Journals::As::sent);
    if (!before) break;
    node = std::move(before->node);
    entry = std::move(before->entry);
  }
  seen.clear();
  return down_from(std::move(node), std::move(entry), journals, seen);
}

std::vector<LadderLine> ladder_of(const Hop& first) {
  std::vector<LadderLine> out;
  out.push_back(
      {fmt::format("{} of {}, {} UTC by the clock of {}", first.entry->value("packet", ""),
                   first.entry->value("user", ""), short_time(first.entry->value("at", "")), first.node),
       ""});
  std::vector<Rung> rungs;
  add_rungs(first, 0, 0, rungs);
  std::stable_sort(rungs.begin(), rungs.end(), [](const Rung& a, const Rung& b) { return a.at < b.at; });
  std::size_t widest = 0;
  for (const Rung& rung : rungs) widest = std::max(widest, rung.depth * 2 + rung.node.size());
  for (const Rung& rung : rungs)
    out.push_back({fmt::format("{:>9}  {:{}}  {}", ms_text(rung.at),
                               std::string(rung.depth * 2, ' ') + rung.node, widest, rung.what),
                   rung.outcome});
  const Hop& there = decided(first);
  const std::string outcome = there.entry->value("outcome", "");
  out.push_back(
      {fmt::format("{} decided: {} ({})", there.node, outcome, there.entry->value("reason", "")), outcome});
  std::vector<std::pair<std::string, double>> times;
  add_times(first, times);
  std::vector<std::string> parts;
  for (const auto& [where, us] : times) parts.push_back(fmt::format("{} {}", where, ms_text(us)));
  out.push_back({"where the time went: " + join(parts, ", "), ""});
  std::vector<std::string> clocks;
  add_clocks(first, clocks);
  for (std::string& line : clocks) out.push_back({std::move(line), ""});
  return out;
}

json ladder_json(const Hop& first) {
  json legs = json::array();
  for (const Hop::Sent& sent : first.sent) {
    json leg = *sent.leg;
    leg["hop"] = sent.there.empty() ? json(nullptr) : ladder_json(sent.there.front());
    if (!sent.there.empty()) {
      const auto ahead = ahead_of(first, sent);
      leg["clock_ahead_s"] = ahead ? json(*ahead / 1e6) : json(nullptr);
    }
    legs.push_back(std::move(leg));
  }
  return {{"node", first.node}, {"entry", *first.entry}, {"sent", legs}};
}

}  // namespace jembatan::cli
