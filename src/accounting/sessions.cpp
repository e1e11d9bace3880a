#include "accounting/sessions.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <limits>

#include "accounting/keys.h"

namespace jembatan::accounting {
namespace {

constexpr std::chrono::seconds kShortestSilence{300};
constexpr std::int64_t kMostNodes = 32767;  // as the database numbers them

bool differ(const std::string& a, const std::string& b) {
  return !a.empty() && !b.empty() && a != b;
}

bool agree(const std::string& a, const std::string& b) {
  return !a.empty() && a == b;
}

Session begun(const Record& record) {
  Session out;
  out.id = record.id;
  out.client = record.client;
  out.nas = record.nas;
  out.session_id = record.session_id;
  out.started = record.event_time - std::chrono::seconds(record.session_time);
  out.updated = record.event_time;
  out.heard = record.received;
  return out;
}

void fill_in(std::string& known, const std::string& told) {
  if (!told.empty()) known = told;
}

void take_over(Session& session, const Record& record) {
  fill_in(session.user, record.user);
  fill_in(session.realm, record.realm);
  fill_in(session.calling_station, record.calling_station);
  fill_in(session.framed_ip, record.framed_ip);
  fill_in(session.port, record.port);
  session.updated = std::max(session.updated, record.event_time);
  session.heard = std::max(session.heard, record.received);
  session.session_time = std::max(session.session_time, record.session_time);
  session.input_octets = std::max(session.input_octets, record.input_octets);
  session.output_octets = std::max(session.output_octets, record.output_octets);
}

void end(Session& session, const Record& record) {
  if (session.ended_by == EndedBy::stop) return;
  session.ended = record.event_time;
  session.ended_by = EndedBy::stop;
  session.terminate_cause = record.terminate_cause;
}

// A node knows its own resends before they come here.
bool may_be_resent(const Session& session, const Record& start) {
  return node_of(session.id) != node_of(start.id) && !session.ended &&
         start.event_time <= session.updated + kResendWindow;
}

void lasts(Session& session, const Record& record) {
  if (record.event_time > session.updated)
    session.interval = std::chrono::duration_cast<std::chrono::seconds>(record.event_time - session.updated);
  if (session.ended_by == EndedBy::nothing || session.ended_by == EndedBy::stop) return;
  if (record.event_time <= *session.ended) return;
  session.ended = std::nullopt;
  session.ended_by = EndedBy::nothing;
  session.terminate_cause = 0;
}

}  // namespace

std::string session_number(std::int64_t id) {
  if (!is_elsewhere(id)) return std::to_string(id);
  return fmt::format("{}/{}", node_of(id), id - id_elsewhere(node_of(id), 0));
}

std::optional<std::int64_t> session_numbered(std::string_view text) {
  const auto number = [](std::string_view digits, std::int64_t most) -> std::optional<std::int64_t> {
    std::int64_t out = 0;
    const auto [end, wrong] = std::from_chars(digits.data(), digits.data() + digits.size(), out);
    if (wrong != std::errc() || end != digits.data() + digits.size() || out < 0 || out > most)
      return std::nullopt;
    return out;
  };
  const std::size_t stroke = text.find('/');
  if (stroke == std::string_view::npos) return number(text, std::numeric_limits<std::int64_t>::max());
  const auto node = number(text.substr(0, stroke), kMostNodes);
  const auto record = number(text.substr(stroke + 1), id_elsewhere(1, 0) - 1);
  if (!node || !record) return std::nullopt;
  return id_elsewhere(*node, *record);
}

Delivered handed_over(std::int64_t id, const std::string& group, const Digest& digest,
                      const std::string& node, WallTime at) {
  return {id, group, std::string(kHandedOver) + node, digest, at, at};
}

std::string handed_over_to(const Delivered& evidence) {
  return evidence.server.starts_with(kHandedOver) ? evidence.server.substr(kHandedOver.size()) : "";
}

std::string_view name_of(EndedBy how) {
  switch (how) {
    case EndedBy::nothing:
      return "";
    case EndedBy::stop:
      return "stop";
    case EndedBy::device:
      return "device";
    case EndedBy::silence:
      return "lost";
  }
  return "";
}

bool belongs(const Session& session, const Record& record) {
  if (differ(session.user, record.user) || differ(session.port, record.port) ||
      differ(session.calling_station, record.calling_station))
    return false;
  const bool same_station = agree(session.calling_station, record.calling_station);
  if (!same_station && differ(session.framed_ip, record.framed_ip)) return false;
  return session.client == record.client ||
         (agree(session.user, record.user) && (same_station || agree(session.port, record.port)));
}

SessionStep follow(std::optional<Session>& session, const Record& record) {
  const bool start = record.status == StatusType::start;
  const bool stop = record.status == StatusType::stop;
  if (!start && !stop && record.status != StatusType::interim_update) return SessionStep::nothing;
  const bool another =
      !session || (start && record.event_time > session->updated && !may_be_resent(*session, record));
  if (another) session = begun(record);
  if (start) session->started = std::min(session->started, record.event_time);
  if (!start && !stop) lasts(*session, record);
  take_over(*session, record);
  if (stop) end(*session, record);
  return another ? SessionStep::begin : SessionStep::update;
}

WallTime lost_from(const Session& session, const Silence& silence) {
  auto patience = silence.most;
  if (session.interval.count() > 0)
    patience = std::min(patience, std::max(session.interval * silence.intervals, kShortestSilence));
  return session.heard + patience;
}

}  // namespace jembatan::accounting
