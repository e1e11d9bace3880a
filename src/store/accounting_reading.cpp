// What is read of the node's own SQLite files.
#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "store/accounting_store.h"
#include "store/session_rows.h"

namespace jembatan::store {
namespace {

using accounting::Entry;
using accounting::LedgerQuery;
using accounting::Query;
using accounting::Record;
using accounting::Session;
using std::chrono::days;

// Ids are small and dense: a bit each.
class SeenIds {
 public:
  // False if it was there.
  bool add(std::int64_t id) {
    if (id < 0 || id >= kMost) return others_.insert(id).second;
    const auto at = static_cast<std::size_t>(id);
    if (at >= seen_.size()) seen_.resize(at + at / 2 + 1);
    if (seen_[at]) return false;
    return seen_[at] = true;
  }

 private:
  static constexpr std::int64_t kMost = std::int64_t{1} << 34U;
  std::vector<bool> seen_;
  std::unordered_set<std::int64_t> others_;  // of other nodes
};

Entry entry_in(SQLite::Statement& row) {
  Entry out;
  out.id = row.getColumn(0).getInt64();
  out.key = digest_in(row.getColumn(1));
  out.digest = digest_in(row.getColumn(2));
  out.event_time = time_in(row.getColumn(3));
  out.received = time_in(row.getColumn(4));
  if (row.getColumnCount() == 5 || row.getColumn(5).isNull()) return out;
  out.sent = time_in(row.getColumn(5));
  if (!row.getColumn(6).isNull()) out.acknowledged = time_in(row.getColumn(6));
  return out;
}

// Another node tells when it has a record, by another clock, and not when a server acknowledged it.
const std::string kSent = fmt::format(
    ", sent_ms, CASE WHEN server LIKE '{}%' THEN NULL ELSE acknowledged_ms END", accounting::kHandedOver);

// Of one day's file, with the places 1 to 5 for since, until, realm, client and group.
std::string entries_sql(const LedgerQuery& query) {
  const bool sent = query.as_sent || !query.sent_to.empty();
  std::string out = fmt::format("SELECT id, key, {}, event_ms, received_ms{} FROM record",
                                query.as_sent ? "coalesce(delivery.digest, record.digest)" : "record.digest",
                                sent ? kSent : "");
  if (sent) out += " LEFT JOIN delivery ON delivery.record = id";
  if (!query.sent_to.empty()) out += " AND to_group = ?5";
  out += " WHERE event_ms >= ?1 AND event_ms < ?2";
  if (!query.realm.empty()) out += " AND realm = ?3";
  if (!query.client.empty()) out += " AND client = ?4";
  return out;
}

}  // namespace

Result<std::vector<Record>> AccountingStore::records(const Query& query) {
  return attempt(folder_, [&]() -> Result<std::vector<Record>> {
    return query.behind ? oldest_behind(query) : newest_of(query);
  });
}

std::vector<Record> AccountingStore::newest_of(const Query& query) {
  std::vector<Record> out;
  const Filter filter = record_filter(query);
  for (const Day day : days_.days()) {
    if (query.until && *query.until <= day) continue;
    if (out.size() >= query.most || (query.since && day + days(1) <= *query.since)) break;
    DayFile* file = days_.of(day);
    if (file == nullptr) continue;
    SQLite::Statement rows = filter.select(file->database(), kRecordColumns, "record",
                                           fmt::format("ORDER BY id DESC LIMIT {}", query.most - out.size()));
    while (rows.executeStep()) out.push_back(record_in(rows));
  }
  return out;
}

// Ids grow from day to day, unless the clock went back: then the days lie over each other.
std::vector<Record> AccountingStore::oldest_behind(const Query& query) {
  std::vector<std::pair<std::int64_t, Day>> by_first;
  for (const Day day : days_.days()) {
    if (query.until && *query.until <= day) continue;
    if (query.since && day + days(1) <= *query.since) break;
    DayFile* file = days_.of(day);
    if (file == nullptr) continue;
    const auto first = file->first_behind(*query.behind);
    if (first) by_first.emplace_back(*first, day);
  }
  std::sort(by_first.begin(), by_first.end());
  std::vector<Record> out;
  const Filter filter = record_filter(query);
  for (const auto& [first, day] : by_first) {
    if (out.size() >= query.most && first > out[query.most - 1].id) break;
    SQLite::Statement rows = filter.select(days_.of(day)->database(), kRecordColumns, "record",
                                           fmt::format("ORDER BY id LIMIT {}", query.most));
    while (rows.executeStep()) out.push_back(record_in(rows));
    std::sort(out.begin(), out.end(), [](const Record& a, const Record& b) { return a.id < b.id; });
    if (out.size() > query.most) out.resize(query.most);
  }
  return out;
}

// Those at hand, then those that were put away, by the day on which they were last heard of.
Result<std::vector<Session>> AccountingStore::sessions(const Query& query) {
  return attempt(folder_, [&]() -> Result<std::vector<Session>> {
    std::map<std::int64_t, Session> found;
    const Filter filter = session_filter(query);
    const auto gather = [&](SQLite::Database& from) {
      SQLite::Statement rows = filter.select(from, kSessionColumns, "session",
                                             fmt::format("ORDER BY heard_ms DESC LIMIT {}", query.most));
      while (rows.executeStep()) {
        Session one = session_in(rows);
        found.emplace(one.id, std::move(one));
      }
    };
    gather(main_);
    for (const Day day : days_.days()) {
      if (query.open_only || found.size() >= query.most) break;
      if (query.since && day + days(2) <= *query.since) break;
      if (DayFile* file = days_.of(day)) gather(file->database());
    }
    std::vector<Session> out;
    for (auto& [id, session] : found) out.push_back(std::move(session));
    std::sort(out.begin(), out.end(), [](const Session& a, const Session& b) {
      return std::pair(a.heard, a.id) > std::pair(b.heard, b.id);
    });
    if (out.size() > query.most) out.resize(query.most);
    return out;
  });
}

// A clock that is ahead may say that it began after its first record was received.
Result<std::vector<Record>> AccountingStore::records_of(const Session& session) {
  return attempt(folder_, [&]() -> Result<std::vector<Record>> {
    std::vector<Record> out;
    const Day first = day_of(session.started) - days(1);
    for (Day day = day_of(session.heard); day >= first; day -= days(1)) {
      if (DayFile* file = days_.of(day)) file->append_records_of(session, out);
    }
    std::sort(out.begin(), out.end(), [](const Record& a, const Record& b) { return a.id < b.id; });
    return out;
  });
}

// One that was open again and put away anew may still stand in the file of an older day: the newest counts.
Status AccountingStore::each_session(const Query& query, const std::function<void(const Session&)>& take) {
  return attempt(folder_, [&]() -> Status {
    SeenIds seen;
    const Filter filter = session_filter(query);
    const auto all_in = [&](SQLite::Database& from) {
      SQLite::Statement rows = filter.select(from, kSessionColumns, "session", "");
      Session one;
      while (rows.executeStep()) {
        read_session(rows, one);
        if (seen.add(one.id)) take(one);
      }
    };
    all_in(main_);
    for (const Day day : days_.days()) {
      if (query.open_only || (query.since && day + days(2) <= *query.since)) break;
      if (DayFile* file = days_.of(day)) all_in(file->database());
    }
    return {};
  });
}

// What happened in some hour may have been received on any day since then.
Status AccountingStore::each_entry(const LedgerQuery& query, const std::function<void(const Entry&)>& take) {
  return attempt(folder_, [&]() -> Status {
    std::unordered_set<std::int64_t> waiting;
    if (!query.sent_to.empty()) {
      SQLite::Statement rows(main_, "SELECT record FROM outbox WHERE to_group = ?1");
      rows.bind(1, query.sent_to);
      while (rows.executeStep()) waiting.insert(rows.getColumn(0).getInt64());
    }
    const std::string sql = entries_sql(query);
    for (const Day day : days_.days()) {
      if (query.since && day + days(2) <= *query.since) break;
      DayFile* file = days_.of(day);
      if (file == nullptr) continue;
      SQLite::Statement rows(file->database(), sql);
      rows.bind(1, query.since ? milliseconds_of(*query.since) : 0);
      rows.bind(2, query.until ? milliseconds_of(*query.until) : std::numeric_limits<std::int64_t>::max());
      if (!query.realm.empty()) rows.bind(3, query.realm);
      if (!query.client.empty()) rows.bind(4, query.client);
      if (!query.sent_to.empty()) rows.bind(5, query.sent_to);
      std::int64_t last = 0;
      while (rows.executeStep()) {
        const Entry one = entry_in(rows);
        const bool wanted = query.sent_to.empty() || one.sent || waiting.count(one.id) > 0;
        if (wanted && one.id != last) take(one);
        last = one.id;  // one that was sent to several groups comes several times, one behind the other
      }
    }
    return {};
  });
}

Result<accounting::Whereabouts> AccountingStore::whereabouts(std::int64_t id) {
  return attempt(folder_, [&]() -> Result<accounting::Whereabouts> {
    accounting::Whereabouts out;
    out.has_evidence = id > number_of(main_, "SELECT evidence_behind FROM progress");
    SQLite::Statement waits(main_, "SELECT aside FROM outbox WHERE to_group = ?1 AND record = ?2");
    for (const std::string& group : groups_that_wait()) {
      const Rewound rewound(waits);
      waits.bind(1, group);
      waits.bind(2, id);
      if (waits.executeStep()) out.waiting.push_back({id, group, text_in(waits.getColumn(0))});
    }
    for (const Day day : days_.days()) {
      DayFile* file = days_.of(day);
      if (file == nullptr || !file->arrival(id)) continue;
      out.delivered = file->deliveries(id);
      break;
    }
    return out;
  });
}

Result<std::vector<accounting::StoredDay>> AccountingStore::stored() {
  return attempt(folder_, [&]() -> Result<std::vector<accounting::StoredDay>> {
    std::vector<accounting::StoredDay> out;
    for (const Day day : days_.days()) {
      DayFile* file = days_.of(day);
      if (file == nullptr) continue;
      out.push_back({date_text(day),
                     static_cast<std::uint64_t>(number_of(file->database(), "SELECT count(*) FROM record")),
                     days_.octets_of(day)});
    }
    return out;
  });
}

}  // namespace jembatan::store
