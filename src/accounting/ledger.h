#pragma once
// What two hops compare to find out whether they have the same records: first sums of hours, then of parts of
// those hours that differ, then the records of the parts that differ. So little goes over the line.
#include <array>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "accounting/record.h"
#include "base/result.h"

namespace jembatan::accounting {

/// One record, for comparing.
struct Entry {
  std::int64_t id = 0;  ///< at its node; 0 in a file for somebody else
  Digest key{};
  Digest digest{};  ///< digest_of it, as it was received or, if that is asked for, as it was sent
  WallTime event_time;
  WallTime received;
  std::optional<WallTime> sent;  ///< to the group that was asked for; only with `as_sent`
  std::optional<WallTime> acknowledged;
};

/// Which records; empty parts match everything. Times are those of the events, to the second.
struct LedgerQuery {
  std::optional<WallTime> since = {};
  std::optional<WallTime> until = {};
  std::string realm = {};
  std::string client = {};   ///< that sent them
  std::string sent_to = {};  ///< a group: those that it has, or that wait for it
  bool as_sent = false;      ///< with what was sent to that group, or to the first that has it
};

/// Of several records: the same for the same records, whatever their order.
struct Sum {
  std::uint64_t count = 0;
  std::uint64_t of_digests = 0;  ///< of the first 8 octets of each, modulo 2^64

  void add(const Digest& digest);
  bool operator==(const Sum&) const = default;
};

/// Hours since 1970 UTC.
using Hour = std::int64_t;
inline constexpr Hour kLastHour = (std::int64_t{1} << 32U) / 3600;  ///< that 32 bits of seconds can tell
Hour hour_of(WallTime time);                                        ///< that the time is in
WallTime begin_of(Hour hour);  ///< its first moment; the hour is between 0 and kLastHour + 1

/// An hour's records lie in so many slots, by their digests.
inline constexpr std::size_t kSlots = 64;
std::size_t slot_of(const Digest& digest);  ///< 0 to kSlots - 1
struct Place {
  Hour hour = 0;
  std::size_t slot = 0;
  auto operator<=>(const Place&) const = default;
};
using SlotSums = std::array<Sum, kSlots>;

/// Key and digest as somebody else may see them: HMAC-SHA256 with the salt, so that what they are made of
/// (names, numbers) cannot be found by trying. An empty salt changes nothing.
void salt(Entry& entry, std::string_view with);

/// One side of a comparison. Each call may go over a slow line, and fails as that does.
class Ledger {
 public:
  virtual ~Ledger() = default;
  /// The hours that have records, by the times of the events.
  virtual Result<std::map<Hour, Sum>> hours() = 0;
  /// The slots of these hours.
  virtual Result<std::map<Hour, SlotSums>> slots(std::span<const Hour> hours) = 0;
  /// The records of these places, in no order.
  virtual Result<std::vector<Entry>> entries(std::span<const Place> places) = 0;
  /// Those that were received more than that behind their event: the first `most`, and how many.
  struct Late {
    std::uint64_t count = 0;
    std::vector<Entry> first;
  };
  virtual Result<Late> late(std::chrono::seconds by, std::size_t most) = 0;
};

// One side's answers, out of its entries as they come.
void add_to(std::map<Hour, Sum>& sums, const Entry& entry);
void add_late(Ledger::Late& late, const Entry& entry, std::chrono::seconds by, std::size_t most);

/// Of entries that are all at hand.
class LedgerAtHand final : public Ledger {
 public:
  explicit LedgerAtHand(std::vector<Entry> entries);
  Result<std::map<Hour, Sum>> hours() override;
  Result<std::map<Hour, SlotSums>> slots(std::span<const Hour> hours) override;
  Result<std::vector<Entry>> entries(std::span<const Place> places) override;
  Result<Late> late(std::chrono::seconds by, std::size_t most) override;

 private:
  std::span<const Entry> of(Hour hour) const;
  std::vector<Entry> entries_;  // by hour
};

}  // namespace jembatan::accounting
