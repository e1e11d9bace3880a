#include "admin/feed_calls.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "admin/answers.h"
#include "admin/callers.h"
#include "admin/capture.h"
#include "admin/json.h"
#include "base/text.h"
#include "journal/tell.h"

namespace jembatan::admin {
namespace {

using namespace std::chrono_literals;

// What somebody who follows wants to see: all, or requests for which a condition holds.
struct Wanted {
  plan::PlanPtr plan;  // whose catalogue the condition was checked with
  std::optional<condition::Condition> when;
  bool holds_for(const std::variant<engine::Event, engine::Notice>& item) const {
    const auto* event = std::get_if<engine::Event>(&item);
    return !when || (event != nullptr && journal::holds_for(*when, *event));
  }
};

bool read_wanted(const Asked& asked, Wanted& out) {
  if (!asked.request.has("where")) return true;
  out.plan = asked.server.plan()->plan;
  std::vector<condition::Mistake> mistakes;
  out.when = condition::Condition::parse(asked.request.get("where"), *out.plan->catalogue, mistakes);
  if (out.when && out.when->uses(condition::Fact::sessions))
    mistakes.push_back(
        {0, 0, "'sessions' are counted for access rules only, and not kept", "what the request has"});
  if (mistakes.empty()) return true;
  const condition::Mistake& first = mistakes.front();
  problem(asked.response, 400, "Not understood",
          fmt::format("where, column {}: {}{}", first.at + 1, first.text,
                      first.allowed.empty() ? "" : "; allowed: " + first.allowed));
  return false;
}

struct CaptureWish {
  Duration time{30000};
  forward::LivePlanPtr live;
  const plan::Client* client = nullptr;
  std::string user;
};

std::optional<CaptureWish> read_capture_wish(const Asked& asked) {
  CaptureWish out;
  out.live = asked.server.plan();
  const auto refuse = [&](const std::string& why) {
    problem(asked.response, 400, "Not understood", why);
    return std::nullopt;
  };
  for (const auto& [key, value] : asked.request.query) {
    if (key == "for") {
      const auto time = parse_duration(value);
      if (!time || *time < 100ms || *time > 1h)
        return refuse(fmt::format("'for={}'; allowed: 100ms to 1h", escaped(value)));
      out.time = *time;
    } else if (key == "client") {
      const auto client = plan::find_client(*out.live->plan, value);
      if (!client) return refuse(client.error().text);
      out.client = *client;
    } else if (key == "user") {
      out.user = value;
    } else {
      return refuse(fmt::format("'{}' is no part of a capture; allowed: for, client, user", escaped(key)));
    }
  }
  return out;
}

struct Capturing {
  Capturing(server::Tap& tap, CaptureWish w)
      : wish(std::move(w)), filter(wish.client, wish.user), listener(tap) {}
  CaptureWish wish;
  CaptureFilter filter;
  server::Tap::Listener listener;
  TimePoint until = std::chrono::steady_clock::now() + wish.time;
  bool begun = false;
};

}  // namespace

void follow_events(const Asked& asked) {
  auto wanted = std::make_shared<Wanted>();
  if (!read_wanted(asked, *wanted)) return;
  auto follower = std::make_shared<server::Feed::Follower>(asked.server.feed());
  asked.response.type = "text/event-stream";
  asked.response.more = [follower, wanted, &callers = asked.callers, caller = asked.caller,
                         quiet_since = TimePoint{}]() mutable -> std::optional<std::string> {
    if (!callers.in_force(caller)) return std::nullopt;
    std::string text;
    for (const auto& item : follower->take(0ms)) {
      if (wanted->holds_for(*item)) text += "data: " + json_text(json_of(*item)) + "\n\n";
    }
    const TimePoint now = std::chrono::steady_clock::now();
    if (text.empty() && now - quiet_since >= 1s) text = ": waiting\n\n";
    if (!text.empty()) quiet_since = now;
    return text;
  };
}

void capture_traffic(const Asked& asked) {
  const auto wish = read_capture_wish(asked);
  if (!wish) return;
  auto capturing = std::make_shared<Capturing>(asked.server.tap(), *wish);
  asked.response.type = "application/vnd.tcpdump.pcap";
  asked.response.more = [capturing, &callers = asked.callers,
                         caller = asked.caller]() -> std::optional<std::string> {
    std::string text = capturing->begun ? "" : capture_head();
    capturing->begun = true;
    for (const auto& tapped : capturing->listener.take(0ms)) {
      if (capturing->filter.wants(tapped)) text += capture_frame(tapped);
    }
    const bool over = std::chrono::steady_clock::now() >= capturing->until || !callers.in_force(caller);
    if (over && text.empty()) return std::nullopt;
    return text;
  };
}

}  // namespace jembatan::admin
