#pragma once
// What accounting needs of a store; which database does it is decided elsewhere.
#include <optional>
#include <span>
#include <vector>

#include "accounting/record.h"

namespace jembatan::accounting {

/// A record on its way in.
struct Incoming {
  Record record;
  bool keep = true;                 ///< false: only until every group has it
  std::vector<std::string> groups;  ///< where it is to be sent
};

/// What became of it.
struct Kept {
  std::int64_t id = 0;
  bool duplicate = false;  ///< a resend of record `id`: nothing was added
};

/// A record that a group has not acknowledged yet.
struct Undelivered {
  std::int64_t place = 0;  ///< in the queue, growing
  std::string group;
  Record record;
};

struct Session {
  std::string client;
  std::string nas;
  std::string session_id;
  std::string user;
  std::string realm;
  std::string calling_station;
  std::string framed_ip;
  WallTime started;
  WallTime updated;
  std::optional<WallTime> ended;
  std::uint32_t session_time = 0;
  std::uint64_t input_octets = 0;
  std::uint64_t output_octets = 0;
  std::uint32_t terminate_cause = 0;
};

/// Empty parts match everything. Newest first.
struct Query {
  std::string user = {};  ///< with or without its realm
  std::string session_id = {};
  std::string client = {};
  std::string realm = {};
  bool open_only = false;              ///< sessions that have not ended
  std::optional<WallTime> since = {};  ///< records received, sessions that lasted, from then on
  std::optional<WallTime> until = {};  ///< records received, sessions that began, before then
  std::size_t most = 100;
};

/// What waits to be sent to a group.
struct QueueDepth {
  std::string group;
  std::uint64_t records = 0;
  WallTime oldest;  ///< when the oldest was received
};

/// All calls may block; none may be made on a network thread. One thread at a time.
class Store {
 public:
  virtual ~Store() = default;
  /// Keeps the records in one transaction: on return they are durable, or none is kept.
  ///   errors  Errc::io
  virtual Result<std::vector<Kept>> append(std::span<const Incoming> records) = 0;
  virtual Result<std::vector<Undelivered>> undelivered(std::int64_t behind_place, std::size_t most) = 0;
  /// Takes records off the queue, in one transaction.
  virtual Status delivered(std::span<const std::int64_t> places) = 0;
  /// By group, those with records that wait.
  virtual Result<std::vector<QueueDepth>> queue() = 0;
  virtual Result<std::vector<Record>> records(const Query& query) = 0;
  virtual Result<std::vector<Session>> sessions(const Query& query) = 0;
};

/// The same record again has the same digest and, without counting how long it was delayed, the same time.
inline constexpr std::chrono::seconds kResendWindow{60};

}  // namespace jembatan::accounting
