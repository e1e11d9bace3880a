#include "store/session_rows.h"

#include <fmt/format.h>

#include "accounting/sessions.h"

namespace jembatan::store {

using accounting::EndedBy;
using accounting::Query;
using accounting::Session;

void read_session(SQLite::Statement& row, Session& into) {
  int at = 0;
  const auto integer = [&] { return row.getColumn(at++).getInt64(); };
  const auto text = [&](std::string& to) {
    const SQLite::Column column = row.getColumn(at++);
    const char* const begin = column.getText();
    to.assign(begin, static_cast<std::size_t>(column.getBytes()));
  };
  const auto time = [&] { return time_in(row.getColumn(at++)); };
  into.id = integer();
  for (std::string Session::*column :
       {&Session::client, &Session::nas, &Session::port, &Session::session_id, &Session::user,
        &Session::realm, &Session::calling_station, &Session::framed_ip})
    text(into.*column);
  into.started = time();
  into.updated = time();
  into.heard = time();
  into.ended = row.getColumn(at).isNull() ? std::nullopt : std::optional(time_in(row.getColumn(at)));
  ++at;
  into.ended_by = static_cast<EndedBy>(integer());
  into.interval = std::chrono::seconds(integer());
  into.session_time = static_cast<std::uint32_t>(integer());
  into.input_octets = static_cast<std::uint64_t>(integer());
  into.output_octets = static_cast<std::uint64_t>(integer());
  into.terminate_cause = static_cast<std::uint32_t>(integer());
}

Session session_in(SQLite::Statement& row) {
  Session out;
  read_session(row, out);
  return out;
}

std::optional<Session> session_that_belongs(SQLite::Statement& sessions_of,
                                            const accounting::Record& record) {
  const Rewound rewound(sessions_of);
  sessions_of.bindNoCopy(1, record.session_id);
  sessions_of.bindNoCopy(2, record.nas);
  while (sessions_of.executeStep()) {
    Session one = session_in(sessions_of);
    if (belongs(one, record)) return one;
  }
  return std::nullopt;
}

void bind_session(SQLite::Statement& to, const Session& session) {
  int at = 1;
  const auto integer = [&](std::int64_t value) { to.bind(at++, value); };
  const auto text = [&](const std::string& value) { to.bindNoCopy(at++, value); };
  integer(session.id);
  text(session.client);
  text(session.nas);
  text(session.port);
  text(session.session_id);
  text(session.user);
  text(session.realm);
  text(session.calling_station);
  text(session.framed_ip);
  integer(milliseconds_of(session.started));
  integer(milliseconds_of(session.updated));
  integer(milliseconds_of(session.heard));
  if (session.ended) {
    integer(milliseconds_of(*session.ended));
  } else {
    to.bind(at++);
  }
  integer(static_cast<std::int64_t>(session.ended_by));
  integer(session.interval.count());
  integer(session.session_time);
  integer(static_cast<std::int64_t>(session.input_octets));
  integer(static_cast<std::int64_t>(session.output_octets));
  integer(session.terminate_cause);
}

Filter::Filter(const Query& query, std::string_view from, std::string_view until) {
  if (!query.user.empty()) {  // with or without its realm
    const std::size_t place = value(query.user);
    where_ += fmt::format(" AND (user = ?{0} OR (user > ?{0} || '@' AND user < ?{0} || 'A'))", place);
  }
  equal("session_id", query.session_id);
  equal("client", query.client);
  equal("realm", query.realm);
  equal("nas", query.nas);
  equal("calling_station", query.calling_station);
  equal("framed_ip", query.framed_ip);
  if (query.id) where_ += fmt::format(" AND id = ?{}", value(*query.id));
  if (query.behind) where_ += fmt::format(" AND id > ?{}", value(*query.behind));
  if (query.since) where_ += fmt::format(" AND {} >= ?{}", until, value(milliseconds_of(*query.since)));
  if (query.until) where_ += fmt::format(" AND {} < ?{}", from, value(milliseconds_of(*query.until)));
}

std::size_t Filter::value(std::variant<std::string, std::int64_t> one) {
  values_.push_back(std::move(one));
  return values_.size();
}

void Filter::equal(std::string_view column, const std::string& text) {
  if (!text.empty()) where_ += fmt::format(" AND {} = ?{}", column, value(text));
}

SQLite::Statement Filter::select(SQLite::Database& from, std::string_view columns, std::string_view table,
                                 std::string_view tail) const {
  SQLite::Statement out(from, fmt::format("SELECT {} FROM {} WHERE {} {}", columns, table, where_, tail));
  for (std::size_t i = 0; i < values_.size(); ++i)
    std::visit([&](const auto& value) { out.bind(static_cast<int>(i + 1), value); }, values_[i]);
  return out;
}

Filter record_filter(const Query& query) {
  Filter out(query, "received_ms", "received_ms");
  if (query.kept_only) {
    out.also("keep = 1");
  } else if (!query.id) {
    out.also("(keep = 1 OR waits > 0)");  // by its number also what was only passed on
  }
  return out;
}

Filter session_filter(const Query& query) {
  Filter out(query, "started_ms", "coalesce(ended_ms, updated_ms)");
  if (query.open_only) out.also("ended_ms IS NULL");
  if (query.lost_only) out.also(fmt::format("ended_by = {}", static_cast<int>(EndedBy::silence)));
  return out;
}

}  // namespace jembatan::store
