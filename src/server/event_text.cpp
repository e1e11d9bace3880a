#include "server/event_text.h"

#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::server {

using engine::Event;

std::string subject_text(const Event& event) {
  if (!event.user.empty()) return "user " + escaped(event.user);
  const bool from_server = event.outcome >= engine::Outcome::reply_used;
  if (from_server) {
    return event.server.empty() ? fmt::format("server {}", event.source.text()) : "server " + event.server;
  }
  if (event.client.empty()) return fmt::format("client {}", event.source.address.text());
  return fmt::format("client {} ({})", event.source.address.text(), event.client);
}

std::string took_text(std::chrono::microseconds took) {
  if (took.count() < 10000) return fmt::format("{:.1f}ms", static_cast<double>(took.count()) / 1000);
  return fmt::format("{}ms", took.count() / 1000);
}

std::string log_text(const Event& event) {
  std::string out = fmt::format("{}: {}", subject_text(event), engine::name_of(event.outcome));
  if (event.code != wire::Code{}) out += fmt::format(" packet={}", wire::name_of(event.code));
  if (!event.client.empty()) out += " client=" + event.client;
  out += fmt::format(" from={} id={}", event.source.text(), event.identifier);
  if (!event.server.empty()) out += " server=" + event.server;
  if (event.took.count() > 0) out += " took=" + took_text(event.took);
  return out + fmt::format(" ({})", reason_text(event));
}

std::string log_json(const Event& event) {
  std::string out = fmt::format(R"("outcome":"{}","from":"{}","id":{})", engine::name_of(event.outcome),
                                event.source.text(), event.identifier);
  const auto add = [&out](std::string_view key, const std::string& value) {
    if (!value.empty()) out += fmt::format(R"(,"{}":{})", key, json_quoted(value));
  };
  if (event.code != wire::Code{}) add("packet", wire::name_of(event.code));
  add("client", event.client);
  add("user", event.user);
  add("server", event.server);
  out += fmt::format(R"(,"took_us":{})", event.took.count());
  add("reason", reason_text(event));
  return out;
}

}  // namespace jembatan::server
