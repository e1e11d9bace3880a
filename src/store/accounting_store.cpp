#include "store/accounting_store.h"

#include <SQLiteCpp/Transaction.h>
#include <fmt/format.h>

#include <algorithm>

#include "accounting/keys.h"
#include "accounting/sessions.h"
#include "store/accounting_tables.h"
#include "store/session_rows.h"

namespace jembatan::store {
namespace {

using accounting::Arrival;
using accounting::Delivered;
using accounting::Incoming;
using accounting::Query;
using accounting::Record;
using accounting::Session;
using accounting::StatusType;
using accounting::Undelivered;
using std::chrono::days;

constexpr std::uint32_t kNasReboot = 11;       // Acct-Terminate-Cause (RFC 2866 §5.10)
constexpr std::size_t kMostDaysBack = 35;      // that a resend, or a late record of a session, is looked for
constexpr int kMostFiledAtATime = 5000;        // sessions
constexpr std::chrono::hours kStaysAtHand{1};  // a session that has ended, for records that come late

std::int64_t count_of(Day day) {
  return day.time_since_epoch().count();
}
Day day_numbered(std::int64_t number) {
  return Day(days(number));
}

}  // namespace

/// A record that is in its day's file, and what else is to be done with it.
struct AccountingStore::Filed {
  Record record;
  const Incoming* incoming = nullptr;
  std::optional<DayFile::Again> again;  // it is older than that, and only waits again
};

AccountingStore::AccountingStore(std::filesystem::path folder, SQLite::Database main, DayFile::Access access)
    : folder_(std::move(folder)),
      main_(std::move(main)),
      days_(folder_ / kRecordFolder, access),
      enqueue_(main_, "INSERT OR IGNORE INTO outbox VALUES (?1, ?2, ?3, ?4, ?5, NULL)"),
      waiting_(main_,
               "SELECT record, day FROM outbox WHERE to_group = ?1 AND record > ?2 AND aside IS NULL "
               "ORDER BY record LIMIT ?3"),
      dequeue_(main_, "DELETE FROM outbox WHERE to_group = ?1 AND record = ?2 RETURNING day, keep"),
      sessions_of_(main_, std::string(kSessionsOf)),
      put_session_(main_, std::string(kPutSession)),
      filled_(number_of(main_, "SELECT filled FROM progress")) {}

Result<std::unique_ptr<AccountingStore>> AccountingStore::open(const std::filesystem::path& folder) {
  auto opened = open_accounting(folder);
  if (!opened) return opened.error();
  return attempt(folder, [&]() -> Result<std::unique_ptr<AccountingStore>> {
    std::vector<Mended> mended = DayFiles(folder / kRecordFolder, DayFile::Access::write).mend();
    if (opened->mended) mended.push_back(std::move(*opened->mended));
    std::unique_ptr<AccountingStore> out(
        new AccountingStore(folder, std::move(opened->database), DayFile::Access::write));
    out->mended_ = std::move(mended);
    return out;
  });
}

Result<std::unique_ptr<AccountingStore>> AccountingStore::open_for_reading(
    const std::filesystem::path& folder) {
  return attempt(folder, [&]() -> Result<std::unique_ptr<AccountingStore>> {
    return std::unique_ptr<AccountingStore>(
        new AccountingStore(folder, open_to_read(folder / kAccountingFile), DayFile::Access::read));
  });
}

// First the files of the days, then what hangs on them: whoever is stopped in between finds the records there
// when the inbox is read again, and does the rest.
Status AccountingStore::fill(std::span<const Incoming> records) {
  if (records.empty()) return {};
  return attempt(folder_, [&]() -> Status {
    std::vector<Filed> filed = put_into_days(records);
    std::sort(filed.begin(), filed.end(),
              [](const Filed& a, const Filed& b) { return a.record.id < b.record.id; });
    SQLite::Transaction whole(main_, SQLite::TransactionBehavior::IMMEDIATE);
    for (const Filed& one : filed) {
      if (one.incoming->arrival.id > filled_) apply(one);
    }
    const std::int64_t last = std::max(filled_, records.back().arrival.id);
    main_.exec(fmt::format("UPDATE progress SET filled = {}", last));
    whole.commit();
    filled_ = last;
    return {};
  });
}

std::vector<AccountingStore::Filed> AccountingStore::put_into_days(std::span<const Incoming> records) {
  std::map<Day, std::vector<const Incoming*>> by_day;
  for (const Incoming& one : records) by_day[day_of(one.arrival.received)].push_back(&one);
  std::vector<Filed> out;
  out.reserve(records.size());
  for (const auto& [day, ones] : by_day) {
    DayFile& file = days_.to_write(day);
    SQLite::Transaction whole(file.database(), SQLite::TransactionBehavior::IMMEDIATE);
    for (const Incoming* one : ones) {
      if (const auto known = file.find(one->arrival)) {
        if (!one->taken_over) continue;  // a resend that nobody knew any more
        out.push_back({accounting::taken_apart(one->arrival), one, file.wait_again(*known, *one)});
        out.back().record.id = *known;
        continue;
      }
      out.push_back({accounting::taken_apart(one->arrival), one, {}});
      file.add(out.back().record, one->keep, one->groups.size());
    }
    whole.commit();
  }
  return out;
}

void AccountingStore::apply(const Filed& one) {
  const bool keep = one.again ? one.again->keep : one.incoming->keep;
  for (const std::string& group : one.again ? one.again->groups : one.incoming->groups) {
    enqueue_.bindNoCopy(1, group);
    enqueue_.bind(2, one.record.id);
    enqueue_.bind(3, count_of(day_of(one.record.received)));
    enqueue_.bind(4, milliseconds_of(one.record.received));
    enqueue_.bind(5, keep ? 1 : 0);
    run(enqueue_);
  }
  if (keep && !one.again) apply_to_sessions(one.record);
}

void AccountingStore::apply_to_sessions(const Record& record) {
  if (record.status == StatusType::accounting_on || record.status == StatusType::accounting_off)
    return close_sessions(record);
  auto session = session_of(record);
  if (accounting::follow(session, record) == accounting::SessionStep::nothing) return;
  bind_session(put_session_, *session);
  run(put_session_);
  changed_(*session);
}

Status AccountingStore::hear(std::int64_t node, std::span<const Record> records) {
  if (records.empty()) return {};
  return attempt(folder_, [&]() -> Status {
    SQLite::Transaction whole(main_, SQLite::TransactionBehavior::IMMEDIATE);
    const std::int64_t last = number_of(main_, fmt::format("SELECT last FROM heard WHERE node = {}", node));
    for (const Record& record : records) {
      if (record.id <= last) continue;
      Record one = record;
      one.id = accounting::id_elsewhere(node, record.id);
      apply_to_sessions(one);
    }
    SQLite::Statement note(
        main_, "INSERT INTO heard VALUES (?1, ?2) ON CONFLICT DO UPDATE SET last = max(last, ?2)");
    bind_all(note, node, records.back().id);
    note.exec();
    whole.commit();
    return {};
  });
}

Result<std::int64_t> AccountingStore::heard(std::int64_t node) {
  return attempt(folder_, [&]() -> Result<std::int64_t> {
    return number_of(main_, fmt::format("SELECT last FROM heard WHERE node = {}", node));
  });
}

void AccountingStore::close_sessions(const Record& record) {
  SQLite::Statement close(
      main_, fmt::format("UPDATE session SET ended_ms = max(?1, started_ms), terminate_cause = "
                         "{}, ended_by = {} WHERE nas = ?2 AND client = ?3 AND ended_ms IS "
                         "NULL AND started_ms <= ?1 RETURNING {}",
                         kNasReboot, static_cast<int>(accounting::EndedBy::device), kSessionColumns));
  close.bind(1, milliseconds_of(record.event_time));
  close.bind(2, record.nas);
  close.bind(3, record.client);
  while (close.executeStep()) changed_(session_in(close));
}

std::optional<Session> AccountingStore::session_of(const Record& record) {
  if (auto at_hand = session_that_belongs(sessions_of_, record)) return at_hand;
  const bool long_ago = record.event_time + kStaysAtHand < record.received;
  if (record.status == StatusType::start && !long_ago) return std::nullopt;
  for (const Day day :
       days_since(record, std::chrono::seconds(record.session_time))) {  // one that was put away comes back,
                                                                         // and is put away again in its time
    DayFile* file = days_.of(day);
    if (file == nullptr) continue;
    if (auto put_away = file->session_of(record)) return put_away;
  }
  return std::nullopt;
}

// The days on which the first of an event, or its session, may have come; newest first. A device without a
// clock tells nothing of that.
std::vector<Day> AccountingStore::days_since(const Arrival& arrival, std::chrono::seconds lasts) const {
  const bool by_a_clock = accounting::is_by_a_clock(std::chrono::system_clock::to_time_t(arrival.event_time));
  const Day first = day_of((by_a_clock ? arrival.event_time : arrival.received) - lasts) - days(1);
  std::vector<Day> out = days_.days();
  const auto older = std::find_if(out.begin(), out.end(), [&](Day day) { return day < first; });
  out.erase(older, out.end());
  if (out.size() > kMostDaysBack) out.resize(kMostDaysBack);
  return out;
}

Status AccountingStore::settle() {
  return attempt(folder_, [&]() -> Status {
    for (DayFile* file : days_.open()) store::settle(file->database());
    store::settle(main_);
    return {};
  });
}

Result<std::string> AccountingStore::tidy(WallTime now, const accounting::Housekeeping& how) {
  return attempt(folder_, [&]() -> Result<std::string> {
    mark_lost(now, how.silence);
    put_away(now);
    return drop_oldest(now, how);
  });
}

void AccountingStore::mark_lost(WallTime now, const accounting::Silence& silence) {
  std::vector<Session> lost;
  SQLite::Statement open(main_,
                         fmt::format("SELECT {} FROM session WHERE ended_ms IS NULL", kSessionColumns));
  while (open.executeStep()) {
    Session session = session_in(open);
    if (now >= lost_from(session, silence)) lost.push_back(std::move(session));
  }
  open.reset();
  SQLite::Transaction whole(main_, SQLite::TransactionBehavior::IMMEDIATE);
  for (Session& session : lost) {
    session.ended = session.updated;
    session.ended_by = accounting::EndedBy::silence;
    bind_session(put_session_, session);
    run(put_session_);
    changed_(session);
  }
  whole.commit();
}

void AccountingStore::put_away(WallTime now) {
  std::map<Day, std::vector<Session>> by_day;
  SQLite::Statement ended(
      main_, fmt::format("SELECT {} FROM session WHERE ended_ms IS NOT NULL AND heard_ms < {} LIMIT {}",
                         kSessionColumns, milliseconds_of(now - kStaysAtHand), kMostFiledAtATime));
  while (ended.executeStep()) {
    Session one = session_in(ended);
    by_day[day_of(one.heard)].push_back(std::move(one));
  }
  ended.reset();
  SQLite::Statement remove(main_, "DELETE FROM session WHERE id = ?1");
  for (const auto& [day, ones] : by_day) {
    DayFile& file = days_.to_write(day);
    SQLite::Transaction put(file.database(), SQLite::TransactionBehavior::IMMEDIATE);
    for (const Session& one : ones) file.put(one);
    put.commit();
    SQLite::Transaction removal(main_, SQLite::TransactionBehavior::IMMEDIATE);
    for (const Session& one : ones) {
      remove.bind(1, one.id);
      run(remove);
    }
    removal.commit();
  }
}

// Never the last two days: a resend must be known, whatever the bound is.
std::string AccountingStore::drop_oldest(WallTime now, const accounting::Housekeeping& how) {
  const std::vector<Day> all = days_.days();
  if (all.size() <= 2) return {};
  const Day oldest = all.back();
  std::uint64_t octets = 0;
  for (const Day day : all) octets += days_.octets_of(day);
  const bool too_old = how.keep.count() > 0 && oldest + days(1) + how.keep <= now;
  const bool too_much = how.most_octets > 0 && octets > how.most_octets;
  if (!too_old && !too_much) return {};
  if (number_of(main_,
                fmt::format("SELECT EXISTS (SELECT 1 FROM outbox WHERE day = {})", count_of(oldest))) != 0)
    return {};
  days_.drop(oldest);
  return date_text(oldest);
}

Result<std::int64_t> AccountingStore::last() {
  return attempt(folder_, [&]() -> Result<std::int64_t> {
    std::int64_t out = filled_;
    std::size_t looked = 0;
    for (const Day day : days_.days()) {
      if (++looked > 3) break;
      if (DayFile* file = days_.of(day))
        out = std::max(out, number_of(file->database(), "SELECT max(id) FROM record"));
    }
    return out;
  });
}

Result<std::optional<std::int64_t>> AccountingStore::find(const Arrival& arrival) {
  return attempt(folder_, [&]() -> Result<std::optional<std::int64_t>> {
    for (const Day day : days_since(arrival)) {
      DayFile* file = days_.of(day);
      if (file == nullptr) continue;
      if (const auto found = file->find(arrival)) return found;
    }
    return std::optional<std::int64_t>{};
  });
}

Result<std::vector<Arrival>> AccountingStore::newest(std::size_t most) {
  return attempt(folder_, [&]() -> Result<std::vector<Arrival>> {
    std::vector<Arrival> out;
    std::size_t looked = 0;
    for (const Day day : days_.days()) {
      if (out.size() >= most || ++looked > kMostDaysBack) break;
      DayFile* file = days_.of(day);
      if (file == nullptr) continue;
      SQLite::Statement rows(
          file->database(),
          fmt::format("SELECT id, received_ms, event_ms, client, source, realm, x'', key, digest "
                      "FROM record ORDER BY id DESC LIMIT {}",
                      most - out.size()));
      while (rows.executeStep()) out.push_back(arrival_in(rows));
    }
    std::sort(out.begin(), out.end(), [](const Arrival& a, const Arrival& b) { return a.id < b.id; });
    return out;
  });
}

Result<std::vector<Undelivered>> AccountingStore::undelivered(const std::string& group, std::int64_t behind,
                                                              std::size_t most) {
  return attempt(folder_, [&]() -> Result<std::vector<Undelivered>> {
    std::vector<Undelivered> out;
    const Rewound rewound(waiting_);
    waiting_.bindNoCopy(1, group);
    waiting_.bind(2, behind);
    waiting_.bind(3, static_cast<std::int64_t>(most));
    while (waiting_.executeStep()) {
      Undelivered one{group, {}};
      one.arrival.id = waiting_.getColumn(0).getInt64();
      DayFile* file = days_.of(day_numbered(waiting_.getColumn(1).getInt64()));
      auto found = file == nullptr ? std::nullopt : file->arrival(one.arrival.id);
      if (found) one.arrival = std::move(*found);
      out.push_back(std::move(one));
    }
    return out;
  });
}

// Committed in this order: a record that is off its queue has the evidence.
Status AccountingStore::delivered(std::span<const Delivered> records) {
  return attempt(folder_, [&]() -> Status {
    SQLite::Transaction whole(main_, SQLite::TransactionBehavior::IMMEDIATE);
    std::map<Day, std::vector<std::pair<const Delivered*, bool>>> by_day;
    for (const Delivered& one : records) {
      const Rewound rewound(dequeue_);
      dequeue_.bindNoCopy(1, one.group);
      dequeue_.bind(2, one.id);
      if (!dequeue_.executeStep()) continue;  // told before, or sent elsewhere meanwhile
      const Day day = day_numbered(dequeue_.getColumn(0).getInt64());
      by_day[day].emplace_back(&one, dequeue_.getColumn(1).getInt() != 0);
    }
    for (const auto& [day, ones] : by_day) {
      DayFile& file = days_.to_write(day);
      SQLite::Transaction of_day(file.database(), SQLite::TransactionBehavior::IMMEDIATE);
      for (const auto& [one, keep] : ones) file.delivered(*one, keep);
      of_day.commit();
    }
    whole.commit();
    return {};
  });
}

Status AccountingStore::set_aside(std::span<const accounting::SetAside> records) {
  return attempt(folder_, [&]() -> Status {
    SQLite::Transaction whole(main_, SQLite::TransactionBehavior::IMMEDIATE);
    SQLite::Statement aside(main_, "UPDATE outbox SET aside = ?3 WHERE to_group = ?1 AND record = ?2");
    for (const accounting::SetAside& one : records) {
      aside.bind(1, one.group);
      aside.bind(2, one.id);
      aside.bind(3, one.why);
      run(aside);
    }
    whole.commit();
    return {};
  });
}

Result<std::vector<std::string>> AccountingStore::waiting_groups() {
  return attempt(folder_, [&]() -> Result<std::vector<std::string>> { return groups_that_wait(); });
}

// From group to group in the index, not through all that waits.
std::vector<std::string> AccountingStore::groups_that_wait() {
  std::vector<std::string> out;
  SQLite::Statement next(main_, "SELECT min(to_group) FROM outbox WHERE to_group > ?1");
  for (std::string behind;; behind = out.back()) {
    next.bind(1, behind);
    if (!next.executeStep() || next.getColumn(0).isNull()) return out;
    out.push_back(text_in(next.getColumn(0)));
    next.reset();
  }
}

Result<std::vector<accounting::QueueDepth>> AccountingStore::queue() {
  return attempt(folder_, [&]() -> Result<std::vector<accounting::QueueDepth>> {
    std::vector<accounting::QueueDepth> out;
    SQLite::Statement rows(
        main_,
        "SELECT to_group, count(*), min(received_ms), count(aside), min(aside) FROM outbox "
        "GROUP BY to_group ORDER BY to_group");
    while (rows.executeStep()) {
      accounting::QueueDepth one;
      one.group = text_in(rows.getColumn(0));
      one.records = static_cast<std::uint64_t>(rows.getColumn(1).getInt64());
      one.oldest = time_in(rows.getColumn(2));
      one.set_aside = static_cast<std::uint64_t>(rows.getColumn(3).getInt64());
      one.why = text_in(rows.getColumn(4));
      out.push_back(std::move(one));
    }
    return out;
  });
}

Result<std::uint64_t> AccountingStore::redirect(const std::string& group,
                                                const std::optional<std::string>& to) {
  return attempt(folder_, [&]() -> Result<std::uint64_t> {
    SQLite::Transaction whole(main_, SQLite::TransactionBehavior::IMMEDIATE);
    SQLite::Statement count(main_, "SELECT count(*) FROM outbox WHERE to_group = ?1");
    count.bind(1, group);
    (void)count.executeStep();
    const auto out = static_cast<std::uint64_t>(count.getColumn(0).getInt64());
    if (to) {  // what waits there already is not sent twice
      SQLite::Statement move(main_,
                             "UPDATE OR IGNORE outbox SET to_group = ?2, aside = NULL WHERE to_group = ?1");
      move.bind(1, group);
      move.bind(2, *to);
      move.exec();
    }
    SQLite::Statement drop(main_, "DELETE FROM outbox WHERE to_group = ?1");
    drop.bind(1, group);
    drop.exec();
    count.reset();
    whole.commit();
    return out;
  });
}

}  // namespace jembatan::store
