// What two hops compare to find out whether they have the same records.
#include <fmt/format.h>

#include <charconv>
#include <nlohmann/json.hpp>
#include <set>

#include "accounting/store.h"
#include "admin/accounting_calls.h"
#include "admin/answers.h"
#include "base/text.h"

namespace jembatan::admin {
namespace {

using accounting::Entry;
using accounting::Hour;
using accounting::Ledger;
using accounting::LedgerQuery;
using accounting::Place;
using accounting::Sum;
using nlohmann::json;

constexpr std::size_t kMostPlaces = 500;
constexpr std::size_t kMostLate = 1000;

struct LedgerWish {
  LedgerQuery query;
  std::string salt;
  std::vector<Place> places;  // hours alone have slot 0
};

// "494831" or "494831.17", with commas between them.
bool read_places(std::string_view text, std::vector<Place>& out) {
  while (!text.empty()) {
    const std::string_view one = text.substr(0, text.find(','));
    text.remove_prefix(std::min(text.size(), one.size() + 1));
    Place place;
    const char* const end = one.data() + one.size();
    auto read = std::from_chars(one.data(), end, place.hour);
    if (read.ec == std::errc() && read.ptr != end && *read.ptr == '.')
      read = std::from_chars(read.ptr + 1, end, place.slot);
    const bool in_time = place.hour >= 0 && place.hour <= accounting::kLastHour;
    if (read.ec != std::errc() || read.ptr != end || place.slot >= accounting::kSlots || !in_time)
      return false;
    out.push_back(place);
  }
  return out.size() <= kMostPlaces;
}

std::optional<LedgerWish> read_wish(const Asked& asked, std::string_view other) {
  LedgerWish out;
  const std::map<std::string_view, std::string*> texts{{"realm", &out.query.realm},
                                                       {"client", &out.query.client},
                                                       {"sent_to", &out.query.sent_to},
                                                       {"salt", &out.salt}};
  for (const auto& [key, value] : asked.request.query) {
    if (const auto text = texts.find(key); text != texts.end()) {
      *text->second = value;
    } else if (key == "since" || key == "until") {
      auto& time = key == "since" ? out.query.since : out.query.until;
      if (!moment_in(asked.request, asked.response, key.c_str(), time)) return std::nullopt;
      if (time) time = std::chrono::floor<std::chrono::seconds>(*time);
    } else if (key == "as_sent" && (value == "true" || value == "false")) {
      out.query.as_sent = value == "true";
    } else if (key != other || (other == "places" && !read_places(value, out.places))) {
      problem(asked.response, 400, "Not understood",
              fmt::format("'{}={}' is no part of a query; allowed: since, until, realm, client, sent_to, "
                          "as_sent=true|false, "
                          "salt{}{}",
                          escaped(key), escaped(value), other.empty() ? "" : ", ",
                          other == "places" ? fmt::format("places=HOUR.SLOT,… ({} at the most)", kMostPlaces)
                                            : other));
      return std::nullopt;
    }
  }
  return out;
}

// Each entry of the wish, as it may be shown. False, with a problem answered, if the store fails.
template <class Take>
bool each(const Asked& asked, const LedgerWish& wish, Take take) {
  const Status done = asked.server.with_accounting([&](accounting::Store& store) {
    return store.each_entry(wish.query, [&](Entry entry) {
      accounting::salt(entry, wish.salt);
      take(entry);
    });
  });
  if (!done) problem(asked.response, 507, "The store cannot be read", done.error().text);
  return static_cast<bool>(done);
}

// Only the hours that are asked for need to be read.
void narrow(LedgerWish& wish) {
  Hour first = wish.places.empty() ? 0 : wish.places.front().hour;
  Hour last = first;
  for (const Place& place : wish.places) {
    first = std::min(first, place.hour);
    last = std::max(last, place.hour);
  }
  wish.query.since = std::max(wish.query.since.value_or(WallTime{}), accounting::begin_of(first));
  wish.query.until = std::min(wish.query.until.value_or(WallTime::max()), accounting::begin_of(last + 1));
}

std::string sum_text(const Sum& sum) {
  return fmt::format("{:x}:{:x}", sum.count, sum.of_digests);
}

json time_json(const std::optional<WallTime>& time) {
  return time ? json(text_of(*time)) : json(nullptr);
}

json entry_json(const Entry& one) {
  return {{"id", one.id},
          {"key", to_hex(one.key)},
          {"digest", to_hex(one.digest)},
          {"event_time", text_of(one.event_time)},
          {"received", text_of(one.received)},
          {"sent", time_json(one.sent)},
          {"acknowledged", time_json(one.acknowledged)}};
}

}  // namespace

void show_ledger_hours(const Asked& asked) {
  const auto wish = read_wish(asked, "");
  if (!wish) return;
  std::map<Hour, Sum> sums;
  if (!each(asked, *wish, [&](const Entry& one) { add_to(sums, one); })) return;
  json out = json::object();
  for (const auto& [hour, sum] : sums) out[std::to_string(hour)] = sum_text(sum);
  answer(asked.response, {{"hours", std::move(out)}});
}

void show_ledger_slots(const Asked& asked) {
  auto wish = read_wish(asked, "places");
  if (!wish) return;
  narrow(*wish);
  std::map<Hour, accounting::SlotSums> sums;
  for (const Place& place : wish->places) sums[place.hour];
  const bool read = each(asked, *wish, [&](const Entry& one) {
    const auto hour = sums.find(accounting::hour_of(one.event_time));
    if (hour != sums.end()) hour->second[accounting::slot_of(one.digest)].add(one.digest);
  });
  if (!read) return;
  json out = json::object();
  for (const auto& [hour, slots] : sums) {
    json& list = out[std::to_string(hour)] = json::array();
    for (const Sum& sum : slots) list.push_back(sum.count == 0 ? "" : sum_text(sum));
  }
  answer(asked.response, {{"hours", std::move(out)}});
}

void show_ledger_entries(const Asked& asked) {
  auto wish = read_wish(asked, "places");
  if (!wish) return;
  narrow(*wish);
  const std::set<Place> places(wish->places.begin(), wish->places.end());
  json out = json::array();
  const bool read = each(asked, *wish, [&](const Entry& one) {
    if (places.count({accounting::hour_of(one.event_time), accounting::slot_of(one.digest)}) > 0)
      out.push_back(entry_json(one));
  });
  if (read) answer(asked.response, {{"entries", std::move(out)}});
}

void show_ledger_late(const Asked& asked) {
  const auto wish = read_wish(asked, "by_s");
  if (!wish) return;
  const auto by = number_in(asked.request, asked.response, "by_s", 300);
  if (!by) return;
  Ledger::Late late;
  const std::chrono::seconds most(std::min<std::uint64_t>(*by, 1U << 30U));
  if (!each(asked, *wish, [&](const Entry& one) { add_late(late, one, most, kMostLate); })) return;
  json list = json::array();
  for (const Entry& one : late.first) list.push_back(entry_json(one));
  answer(asked.response, {{"count", late.count}, {"first", std::move(list)}});
}

}  // namespace jembatan::admin
