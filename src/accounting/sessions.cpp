#include "accounting/sessions.h"

#include <algorithm>

namespace jembatan::accounting {
namespace {

Session begun(const Record& record) {
  Session out;
  out.client = record.client;
  out.nas = record.nas;
  out.session_id = record.session_id;
  out.started = record.event_time - std::chrono::seconds(record.session_time);
  out.updated = record.event_time;
  return out;
}

void take_over(Session& session, const Record& record) {
  session.user = record.user;
  session.realm = record.realm;
  session.calling_station = record.calling_station;
  if (!record.framed_ip.empty()) session.framed_ip = record.framed_ip;
  session.updated = std::max(session.updated, record.event_time);
  session.session_time = std::max(session.session_time, record.session_time);
  session.input_octets = std::max(session.input_octets, record.input_octets);
  session.output_octets = std::max(session.output_octets, record.output_octets);
}

}  // namespace

SessionStep follow(std::optional<Session>& session, const Record& record) {
  const bool start = record.status == StatusType::start;
  const bool stop = record.status == StatusType::stop;
  if (!start && !stop && record.status != StatusType::interim_update) return SessionStep::nothing;
  const bool another = !session || (start && record.event_time > session->updated);
  if (another) session = begun(record);
  if (start) session->started = std::min(session->started, record.event_time);
  take_over(*session, record);
  if (stop && !session->ended) {
    session->ended = record.event_time;
    session->terminate_cause = record.terminate_cause;
  }
  return another ? SessionStep::begin : SessionStep::update;
}

}  // namespace jembatan::accounting
