#pragma once
// How much was used: sessions, time, octets and how many at once, of sessions that may begin before a period
// and end behind it.
#include <functional>
#include <span>
#include <string>
#include <unordered_map>
#include <vector>

#include "accounting/sessions.h"

namespace jembatan::accounting {

/// What had been told of a session up to some moment.
struct UsagePoint {
  WallTime at;
  std::uint64_t seconds = 0;
  std::uint64_t input_octets = 0;
  std::uint64_t output_octets = 0;
};
UsagePoint point_of(const Record& record);

struct UsageWish {
  WallTime since;
  WallTime until;
  /// A row for each such part of the period, cut at its multiples since 1970 UTC (a day, an hour); 0: the
  /// period is one.
  std::chrono::seconds part{0};
  /// Without parts: in whose row a session counts.
  std::function<std::string(const Session&)> whose = {};
};

struct UsageRow {
  std::string whose;  ///< or when the part begins: "2026-11-26", "2026-11-26 09:00"
  std::uint64_t sessions = 0;
  std::uint64_t seconds = 0;
  std::uint64_t input_octets = 0;
  std::uint64_t output_octets = 0;
  std::uint64_t peak = 0;  ///< most at one moment
};

class Usage {
 public:
  explicit Usage(UsageWish wish) : wish_(std::move(wish)) {}

  /// True if it depends on when in its time a session used how much.
  bool crosses(const Session& session) const;
  /// Counts a session. Between what was told it is taken to have been used evenly.
  ///   told  what its records told, in any order; needed where it crosses() a border
  void add(const Session& session, std::span<const UsagePoint> told = {});

  /// All parts of the period by time; otherwise who had the most octets first.
  std::vector<UsageRow> rows() const;
  UsageRow all() const;

 private:
  using Times = std::pair<std::uint32_t, std::uint32_t>;  // seconds since the period's begin, from and until
  struct Counted {
    UsageRow row;
    std::vector<Times> at;
  };
  Times times_of(WallTime from, WallTime until) const;
  bool is_outside(const Session& session) const;
  WallTime end_of_part(WallTime at) const;
  void count(const std::string& whose, const UsageRow& used, WallTime from, WallTime until);

  UsageWish wish_;
  std::unordered_map<std::string, Counted> counted_;
  std::vector<Times> sessions_;
};

}  // namespace jembatan::accounting
