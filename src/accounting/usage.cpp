#include "accounting/usage.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace jembatan::accounting {
namespace {

using std::chrono::seconds;

WallTime end_of(const Session& session) {
  return std::max(session.started, session.ended.value_or(session.updated));
}

// What was told at its end; the time, if that was not told, by the clock.
UsagePoint total_of(const Session& session) {
  const WallTime end = end_of(session);
  const auto lasted = static_cast<std::uint64_t>(std::chrono::floor<seconds>(end - session.started).count());
  return {end, session.session_time != 0 ? session.session_time : lasted, session.input_octets,
          session.output_octets};
}

std::vector<UsagePoint> line_of(const Session& session, std::span<const UsagePoint> told) {
  const WallTime end = end_of(session);
  std::vector<UsagePoint> out{{session.started}};
  for (const UsagePoint& one : told)
    if (one.at > session.started && one.at < end) out.push_back(one);
  out.push_back(total_of(session));
  std::stable_sort(out.begin(), out.end(), [](const auto& a, const auto& b) { return a.at < b.at; });
  const UsagePoint total = out.back();
  for (std::size_t i = 1; i < out.size(); ++i) {  // nothing becomes less, and nothing more than in the end
    const auto between = [&](std::uint64_t UsagePoint::*what) {
      out[i].*what = std::clamp(out[i].*what, out[i - 1].*what, std::max(out[i - 1].*what, total.*what));
    };
    between(&UsagePoint::seconds);
    between(&UsagePoint::input_octets);
    between(&UsagePoint::output_octets);
  }
  return out;
}

// What had been used up to a moment.
UsagePoint used_at(const std::vector<UsagePoint>& line, WallTime at) {
  const auto next = std::upper_bound(line.begin(), line.end(), at,
                                     [](WallTime t, const UsagePoint& p) { return t < p.at; });
  if (next == line.begin()) return {at};
  if (next == line.end()) return line.back();
  const UsagePoint& before = *std::prev(next);
  const double part =
      std::chrono::duration<double>(at - before.at) / std::chrono::duration<double>(next->at - before.at);
  const auto between = [&](std::uint64_t from, std::uint64_t to) {
    return from + static_cast<std::uint64_t>(static_cast<double>(to - from) * part);
  };
  return {at, between(before.seconds, next->seconds), between(before.input_octets, next->input_octets),
          between(before.output_octets, next->output_octets)};
}

UsageRow difference(const UsagePoint& from, const UsagePoint& to) {
  UsageRow out;
  out.sessions = 1;
  out.seconds = to.seconds - from.seconds;
  out.input_octets = to.input_octets - from.input_octets;
  out.output_octets = to.output_octets - from.output_octets;
  return out;
}

std::uint64_t most_at_once(std::vector<std::pair<std::uint32_t, std::uint32_t>> times) {
  std::vector<std::uint32_t> ends;
  ends.reserve(times.size());
  for (const auto& [from, until] : times) ends.push_back(until);
  std::sort(times.begin(), times.end());
  std::sort(ends.begin(), ends.end());
  std::size_t ended = 0;
  std::size_t most = 0;
  for (std::size_t begun = 0; begun < times.size(); ++begun) {
    while (ends[ended] <= times[begun].first) ++ended;
    most = std::max(most, begun + 1 - ended);
  }
  return most;
}

std::string text_of_part(WallTime at, seconds part) {
  const WallTime begin(part * (at.time_since_epoch() / part));
  return second_text(begin).substr(0, part >= std::chrono::days(1) ? 10 : 16);
}

}  // namespace

UsagePoint point_of(const Record& record) {
  return {record.event_time, record.session_time, record.input_octets, record.output_octets};
}

WallTime Usage::end_of_part(WallTime at) const {
  if (wish_.part.count() == 0) return wish_.until;
  const auto begun = at.time_since_epoch() / wish_.part;
  return std::min(wish_.until, WallTime(wish_.part * (begun + 1)));
}

// What ends with the moment at which the period begins is before it.
bool Usage::is_outside(const Session& session) const {
  const WallTime end = end_of(session);
  if (session.started >= wish_.until) return true;
  return end < wish_.since || (end == wish_.since && session.started < end);
}

bool Usage::crosses(const Session& session) const {
  if (is_outside(session)) return false;
  const WallTime end = end_of(session);
  return session.started < wish_.since || end >= end_of_part(session.started);
}

void Usage::count(const std::string& whose, const UsageRow& used, WallTime from, WallTime until) {
  Counted& counted = counted_[whose];
  counted.row.whose = whose;
  counted.row.sessions += used.sessions;
  counted.row.seconds += used.seconds;
  counted.row.input_octets += used.input_octets;
  counted.row.output_octets += used.output_octets;
  counted.at.push_back(times_of(from, until));
}

Usage::Times Usage::times_of(WallTime from, WallTime until) const {
  const auto second = [&](WallTime time) {
    return static_cast<std::uint32_t>(std::chrono::floor<seconds>(time - wish_.since).count());
  };
  return {second(from), std::max(second(until), second(from) + 1)};
}

void Usage::add(const Session& session, std::span<const UsagePoint> told) {
  if (is_outside(session)) return;
  const WallTime end = end_of(session);
  const bool in_one_part = !crosses(session);
  const std::vector<UsagePoint> line = in_one_part ? std::vector{total_of(session)} : line_of(session, told);
  const auto first = std::max(session.started, wish_.since);
  sessions_.push_back(times_of(first, std::min(end, wish_.until)));
  for (WallTime at = first;;) {
    const WallTime border = end_of_part(at);
    const bool whole = end < border;  // what was told at the very end belongs to the last part
    const UsagePoint before = at > session.started ? used_at(line, at) : UsagePoint{at};
    const UsageRow used = difference(before, whole ? line.back() : used_at(line, border));
    count(wish_.part.count() == 0 ? wish_.whose(session) : text_of_part(at, wish_.part), used, at,
          whole ? end : border);
    if (whole || border >= wish_.until || border >= end) return;
    at = border;
  }
}

std::vector<UsageRow> Usage::rows() const {
  std::vector<UsageRow> out;
  const auto add = [&](const Counted& counted) {
    out.push_back(counted.row);
    out.back().peak = most_at_once(counted.at);
  };
  if (wish_.part.count() != 0) {
    for (WallTime at = wish_.since; at < wish_.until; at = end_of_part(at)) {
      const std::string whose = text_of_part(at, wish_.part);
      const auto found = counted_.find(whose);
      add(found == counted_.end() ? Counted{{whose}, {}} : found->second);
    }
    return out;
  }
  out.reserve(counted_.size());
  for (const auto& [whose, counted] : counted_) add(counted);
  std::sort(out.begin(), out.end(), [](const UsageRow& a, const UsageRow& b) {
    const auto most_first = [](const UsageRow& row) {
      return std::pair(~(row.input_octets + row.output_octets), ~row.seconds);
    };
    if (most_first(a) == most_first(b)) return a.whose < b.whose;
    return most_first(a) < most_first(b);
  });
  return out;
}

UsageRow Usage::all() const {
  UsageRow out;
  for (const auto& [whose, counted] : counted_) {
    out.seconds += counted.row.seconds;
    out.input_octets += counted.row.input_octets;
    out.output_octets += counted.row.output_octets;
  }
  out.sessions = sessions_.size();
  out.peak = most_at_once(sessions_);
  return out;
}

}  // namespace jembatan::accounting
