#include "cli/node_ledger.h"

#include <fmt/format.h>

#include <charconv>
#include <nlohmann/json.hpp>

#include "base/text.h"

namespace jembatan::cli {
namespace {

using accounting::Digest;

using accounting::Hour;
using accounting::Place;
using accounting::SlotSums;
using accounting::Sum;
using nlohmann::json;

constexpr std::size_t kHoursAtOnce = 200;
constexpr std::size_t kPlacesAtOnce = 448;  // seven hours whole

// "4c:9f0c…"; nothing of an empty text.
Sum sum_in(const json& text) {
  Sum out;
  const std::string& all = text.get_ref<const std::string&>();
  const std::size_t colon = all.find(':');
  if (colon == std::string::npos) return out;
  std::from_chars(all.data(), all.data() + colon, out.count, 16);
  std::from_chars(all.data() + colon + 1, all.data() + all.size(), out.of_digests, 16);
  return out;
}

Hour hour_in(const std::string& text) {
  Hour out = 0;
  std::from_chars(text.data(), text.data() + text.size(), out);
  return out;
}

Digest digest_in(const json& text) {
  Digest out{};
  const auto octets = from_hex(text.get_ref<const std::string&>());
  if (octets && octets->size() == out.size()) std::copy(octets->begin(), octets->end(), out.begin());
  return out;
}

std::optional<WallTime> time_in(const json& text) {
  if (!text.is_string()) return std::nullopt;
  const auto out = parse_time(text.get_ref<const std::string&>());
  return out ? std::optional(*out) : std::nullopt;
}

accounting::Entry entry_in(const json& row) {
  accounting::Entry out;
  out.id = row.at("id").get<std::int64_t>();
  out.key = digest_in(row.at("key"));
  out.digest = digest_in(row.at("digest"));
  out.event_time = time_in(row.at("event_time")).value_or(WallTime{});
  out.received = time_in(row.at("received")).value_or(WallTime{});
  out.sent = time_in(row.at("sent"));
  out.acknowledged = time_in(row.at("acknowledged"));
  return out;
}

// What a node answers is outside data: whatever is not as it should be is one error.
template <class Read>
auto reading(const Result<json>& body, Read read) -> Result<decltype(read(*body))> {
  if (!body) return body.error();
  try {
    return read(*body);
  } catch (const json::exception& problem) {
    return fail(Errc::malformed,
                fmt::format("the node's answer is not understood: {}", escaped(problem.what())));
  }
}

template <class Item, class Text>
std::string joined(std::span<const Item> items, Text text_of_item) {
  std::vector<std::string> texts;
  for (const Item& one : items) texts.push_back(text_of_item(one));
  return join(texts, ",");
}

}  // namespace

NodeLedger::NodeLedger(NodeClient& node, const accounting::LedgerQuery& query, const std::string& salt)
    : node_(node) {
  const auto add = [this](const char* part, const std::string& text) {
    if (!text.empty()) query_.emplace_back(part, text);
  };
  if (query.since) add("since", text_of(*query.since));
  if (query.until) add("until", text_of(*query.until));
  add("realm", query.realm);
  add("client", query.client);
  add("sent_to", query.sent_to);
  if (query.as_sent) add("as_sent", "true");
  add("salt", salt);
}

Result<json> NodeLedger::ask(const char* what, const std::pair<std::string, std::string>& more) {
  Parts parts = query_;
  if (!more.first.empty()) parts.push_back(more);
  return node_.call("GET", fmt::format("/v1/accounting/ledger/{}", what), parts);
}

Result<std::map<Hour, Sum>> NodeLedger::hours() {
  return reading(ask("hours"), [](const json& body) {
    std::map<Hour, Sum> out;
    for (const auto& [hour, sum] : body.at("hours").items()) out[hour_in(hour)] = sum_in(sum);
    return out;
  });
}

Result<std::map<Hour, SlotSums>> NodeLedger::slots(std::span<const Hour> hours) {
  std::map<Hour, SlotSums> out;
  for (; !hours.empty(); hours = hours.subspan(std::min(kHoursAtOnce, hours.size()))) {
    const auto some = hours.first(std::min(kHoursAtOnce, hours.size()));
    const auto read =
        reading(ask("slots", {"places", joined(some, [](Hour hour) { return std::to_string(hour); })}),
                [&](const json& body) {
                  for (const auto& [hour, sums] : body.at("hours").items()) {
                    SlotSums& slots = out[hour_in(hour)];
                    for (std::size_t i = 0; i < slots.size(); ++i) slots[i] = sum_in(sums.at(i));
                  }
                  return true;
                });
    if (!read) return read.error();
  }
  return out;
}

Result<std::vector<accounting::Entry>> NodeLedger::entries(std::span<const Place> places) {
  std::vector<accounting::Entry> out;
  for (; !places.empty(); places = places.subspan(std::min(kPlacesAtOnce, places.size()))) {
    const auto some = places.first(std::min(kPlacesAtOnce, places.size()));
    const auto text = joined(some, [](const Place& one) { return fmt::format("{}.{}", one.hour, one.slot); });
    const auto read = reading(ask("entries", {"places", text}), [&](const json& body) {
      for (const json& row : body.at("entries")) out.push_back(entry_in(row));
      return true;
    });
    if (!read) return read.error();
  }
  return out;
}

Result<accounting::Ledger::Late> NodeLedger::late(std::chrono::seconds by, std::size_t most) {
  return reading(ask("late", {"by_s", std::to_string(by.count())}), [&](const json& body) {
    Late out;
    out.count = body.at("count").get<std::uint64_t>();
    for (const json& row : body.at("first"))
      if (out.first.size() < most) out.first.push_back(entry_in(row));
    return out;
  });
}

}  // namespace jembatan::cli
