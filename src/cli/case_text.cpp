#include "cli/case_text.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <nlohmann/json.hpp>

#include "cli/packet_text.h"
#include "document/write.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

// What belongs to the hop, is said otherwise in a case, or is new in each request.
constexpr std::array<std::string_view, 13> kOwn{"Class",
                                                "User-Name",
                                                "User-Password",
                                                "CHAP-Password",
                                                "CHAP-Challenge",
                                                "Message-Authenticator",
                                                "Proxy-State",
                                                "State",
                                                "EAP-Message",
                                                "Acct-Session-Id",
                                                "Acct-Status-Type",
                                                "Acct-Delay-Time",
                                                "Event-Timestamp"};

bool belongs(const json& line) {
  const std::string name = line.value("name", "");
  return line.value("depth", 0) == 0 && line.at("value") != "(not kept)" && !name.starts_with("MS-CHAP") &&
         std::find(kOwn.begin(), kOwn.end(), name) == kOwn.end();
}

std::string value_of(const json& packet, std::string_view name) {
  if (!packet.is_object()) return {};
  for (const json& line : packet.at("attributes"))
    if (line.value("name", "") == name && line.at("value").is_string())
      return line.at("value").get<std::string>();
  return {};
}

document::Value table_of(const json& packet) {
  document::Value out = document::table_value();
  if (!packet.is_object()) return out;
  const json& lines = packet.at("attributes");
  for (std::size_t i = 0; i < lines.size(); ++i) {
    const json& line = lines[i];
    const bool holds_others = i + 1 < lines.size() && lines[i + 1].value("depth", 0) > 0;
    if (belongs(line) && !holds_others)
      document::set_entry(out, line.value("name", ""), document::text_value(value_text(line.at("value"))));
  }
  return out;
}

}  // namespace

std::string case_text(const json& entry, const std::string& node) {
  const json& request = entry.at("request");
  const json& reply = entry.at("reply");
  const bool accounting = entry.value("packet", "") == "Accounting-Request";
  const std::string user = entry.value("user", "");
  document::Value step = document::table_value();
  const auto set = [&step](std::string_view key, const std::string& value) {
    if (!value.empty()) document::set_entry(step, key, document::text_value(value));
  };
  set(accounting ? "accounting" : "access", node);
  const std::string source = entry.value("from", "");
  const std::string address = source.substr(0, source.rfind(':'));
  if (address != "127.0.0.1") {  // otherwise the demo chain's own
    set("client", entry.value("client", ""));
    set("from", address);
  }
  set("user", user);
  if (accounting) {
    set("record", value_of(request, "Acct-Status-Type"));
  } else {
    set("password", "TO BE FILLED IN");
  }
  if (document::Value sent = table_of(request); !sent.entries.empty())
    document::set_entry(step, "send", std::move(sent));
  document::Value expect = document::table_value();
  document::set_entry(
      expect, "code",
      document::text_value(reply.is_object() ? reply.value("packet", "") : std::string("none")));
  if (document::Value wanted = table_of(reply); !wanted.entries.empty())
    document::set_entry(expect, "reply", std::move(wanted));
  if (const std::string server = entry.value("server", ""); !server.empty())
    document::set_entry(expect, "server", document::text_value(server));
  document::set_entry(step, "expect", std::move(expect));
  const document::Value name = document::text_value(fmt::format(
      "as on {}: {} is {}", entry.value("at", "").substr(0, 10), user, entry.value("outcome", "")));
  return fmt::format("[[case]]\nname = {}\n\n{}", document::inline_text(name),
                     document::section_text("[[case.step]]", step));
}

}  // namespace jembatan::cli
