#pragma once
// What accounting needs of a store; which database does it is decided elsewhere.
#include <functional>
#include <optional>
#include <span>
#include <vector>

#include "accounting/ledger.h"
#include "accounting/record.h"

namespace jembatan::accounting {

/// A record on its way in, and where it is to go.
struct Incoming {
  Arrival arrival;
  bool keep = true;                 ///< false: only until every group has it
  std::vector<std::string> groups;  ///< where it is to be sent
  bool taken_over = false;          ///< from another node: if it is known here, it waits for them again
};

/// What became of it.
struct Kept {
  std::int64_t id = 0;
  bool duplicate = false;  ///< a resend of record `id`: nothing was added
};

/// A record that a group has not acknowledged yet.
struct Undelivered {
  std::string group;
  Arrival arrival;
};

/// A record that a group has: the evidence of it.
struct Delivered {
  std::int64_t id = 0;  ///< of the record
  std::string group;
  std::string server;  ///< that acknowledged it
  Digest digest{};     ///< digest_of what was sent
  WallTime sent;       ///< first
  WallTime acknowledged;
};

/// The evidence that another node of the plan has a record, and sends it on.
///   at  by the clock of the database that they share
Delivered handed_over(std::int64_t id, const std::string& group, const Digest& digest,
                      const std::string& node, WallTime at);
/// That node; empty: a server of the group acknowledged it.
std::string handed_over_to(const Delivered& evidence);
/// What the name of the server begins with then; a server's own has no blanks.
inline constexpr std::string_view kHandedOver = "node ";

/// A record that cannot be sent to a group as it is: nobody tries again until somebody says so.
struct SetAside {
  std::int64_t id = 0;
  std::string group;
  std::string why;
};

/// Where a record went, and where it has still to go.
struct Whereabouts {
  std::vector<Delivered> delivered;
  std::vector<SetAside> waiting;  ///< `why` is empty unless it is set aside
  bool has_evidence = true;       ///< false: it was delivered, or not, by a version that kept none
};

/// How a session came to its end.
enum class EndedBy : std::uint8_t {
  nothing,  ///< it is open
  stop,
  device,   ///< Accounting-On or -Off of its device
  silence,  ///< nothing was heard of it for too long: its Stop is lost
};
std::string_view name_of(EndedBy how);

struct Session {
  std::int64_t id = 0;  ///< of the record that it began with
  std::string client;
  std::string nas;
  std::string port;
  std::string session_id;
  std::string user;
  std::string realm;
  std::string calling_station;
  std::string framed_ip;
  WallTime started;
  WallTime updated;               ///< the last event
  WallTime heard;                 ///< when its last record was received
  std::optional<WallTime> ended;  ///< if lost, when it was last heard of
  EndedBy ended_by = EndedBy::nothing;
  std::chrono::seconds interval{0};  ///< between its last two interim records; 0: not known
  std::uint32_t session_time = 0;
  std::uint64_t input_octets = 0;
  std::uint64_t output_octets = 0;
  std::uint32_t terminate_cause = 0;
};

/// How long nothing may be heard of a session until its Stop counts as lost.
struct Silence {
  std::chrono::seconds most{86400};
  unsigned intervals = 3;  ///< or so many times as long as its interim records were apart
};

/// Empty parts match everything. Records: newest first, unless `behind` is given; sessions: the one that was
/// heard of last first.
struct Query {
  std::string user = {};  ///< with or without its realm
  std::string session_id = {};
  std::string client = {};
  std::string realm = {};
  std::string nas = {};
  std::string calling_station = {};
  std::string framed_ip = {};
  std::optional<std::int64_t> id = {};      ///< of a record
  std::optional<std::int64_t> behind = {};  ///< records: the oldest first, those with a higher id than this
  bool kept_only = false;                   ///< records that are to be kept here
  bool open_only = false;                   ///< sessions that have not ended
  bool lost_only = false;                   ///< sessions whose Stop is lost
  std::optional<WallTime> since = {};       ///< records received, sessions that lasted, from then on
  std::optional<WallTime> until = {};       ///< records received, sessions that began, before then
  std::size_t most = 100;
};

/// What waits to be sent to a group.
struct QueueDepth {
  std::string group;
  std::uint64_t records = 0;
  WallTime oldest;              ///< when the oldest was received
  std::uint64_t set_aside = 0;  ///< of them, those that nobody tries to send
  std::string why;              ///< the first of those was set aside
};

/// What the store has of one day.
struct StoredDay {
  std::string date;  ///< "2026-11-26", UTC
  std::uint64_t records = 0;
  std::uint64_t octets = 0;  ///< on the disk
};

/// What the store is to keep.
struct Housekeeping {
  Silence silence;
  std::chrono::hours keep{0};     ///< records and sessions that have ended; 0: for ever
  std::uint64_t most_octets = 0;  ///< of the days' files; 0: without bound
};

/// Where records are durable before they are acknowledged, and wait for the store. Calls may block; one
/// thread at a time.
class Inbox {
 public:
  virtual ~Inbox() = default;
  /// Keeps the records, whose ids grow, in one commit: on return they are durable, or none is kept.
  ///   errors  Errc::io
  virtual Status append(std::span<const Incoming> records) = 0;
  /// The records behind one; the whole commits in which they are, until there are `most`.
  virtual Result<std::vector<Incoming>> behind(std::int64_t id, std::size_t most) = 0;
  /// The store has all records up to this one.
  virtual Status forget(std::int64_t up_to) = 0;
  /// The highest id in it; 0 if it is empty.
  virtual Result<std::int64_t> last() = 0;
};

/// Records, sessions, and what is to be sent on: filled from the inbox. Calls may block; none may be made on
/// a network thread. One thread at a time.
class Store {
 public:
  virtual ~Store() = default;
  /// Takes records over from the inbox, in its order, each once: those that it has are passed over.
  ///   errors  Errc::io: it may have none of them, or some
  virtual Status fill(std::span<const Incoming> records) = 0;
  /// Takes over what another node recorded, into the sessions alone: each record once, in the order of its
  /// numbers there.
  virtual Status hear(std::int64_t node, std::span<const Record> records) = 0;
  /// The last record of another node that was heard; 0: none.
  virtual Result<std::int64_t> heard(std::int64_t node) = 0;
  /// Is told each session that changes, as it is then, maybe more than once.
  virtual void watch(std::function<void(const Session&)> changed) = 0;
  /// On return, everything that was filled in survives a loss of power: the inbox may forget it.
  virtual Status settle() = 0;
  /// Ends sessions that nothing is heard of any more, puts away what has ended, and drops the oldest day if
  /// it is to be kept no longer and nothing of it waits to be sent on. To be called now and then.
  ///   returns  the day that was dropped: "2026-11-26"; empty if none was
  virtual Result<std::string> tidy(WallTime now, const Housekeeping& how) = 0;
  /// The highest id in it; 0 if there is none.
  virtual Result<std::int64_t> last() = 0;
  /// The record of the same event, as key_of and is_one_event say.
  virtual Result<std::optional<std::int64_t>> find(const Arrival& arrival) = 0;
  /// The newest records, oldest first, without their attributes: for KnownRecords.
  virtual Result<std::vector<Arrival>> newest(std::size_t most) = 0;

  /// What waits for a group and is not set aside, behind a record.
  virtual Result<std::vector<Undelivered>> undelivered(const std::string& group, std::int64_t behind,
                                                       std::size_t most) = 0;
  /// Takes records off the queues and keeps the evidence.
  virtual Status delivered(std::span<const Delivered> records) = 0;
  virtual Status set_aside(std::span<const SetAside> records) = 0;
  /// The groups that records wait for.
  virtual Result<std::vector<std::string>> waiting_groups() = 0;
  /// By group, those with records that wait.
  virtual Result<std::vector<QueueDepth>> queue() = 0;
  /// Sends what waits for a group to another one, or to nobody.
  ///   returns  how many records
  virtual Result<std::uint64_t> redirect(const std::string& group, const std::optional<std::string>& to) = 0;

  virtual Result<std::vector<Record>> records(const Query& query) = 0;
  virtual Result<std::vector<Session>> sessions(const Query& query) = 0;
  /// What was received of a session, the oldest first.
  virtual Result<std::vector<Record>> records_of(const Session& session) = 0;
  /// Each session once, in no order; `most` says nothing here.
  virtual Status each_session(const Query& query, const std::function<void(const Session&)>& take) = 0;
  /// What is compared with other hops, in no order.
  virtual Status each_entry(const LedgerQuery& query, const std::function<void(const Entry&)>& take) = 0;
  virtual Result<Whereabouts> whereabouts(std::int64_t id) = 0;
  /// The days that there are records of, newest first.
  virtual Result<std::vector<StoredDay>> stored() = 0;
};

}  // namespace jembatan::accounting
