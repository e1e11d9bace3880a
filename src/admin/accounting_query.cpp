#include "admin/accounting_query.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "admin/answers.h"
#include "base/text.h"

namespace jembatan::admin {
namespace {

constexpr std::size_t kMostListed = 10000;

bool is_number(const std::string& text) {
  return !text.empty() && text.size() < 18 && text.find_first_not_of("0123456789") == std::string::npos;
}

}  // namespace

std::optional<accounting::Query> accounting_query(const Asked& asked,
                                                  std::initializer_list<std::string_view> others) {
  accounting::Query out;
  const std::map<std::string_view, std::string*> text_parts{{"user", &out.user},
                                                            {"session_id", &out.session_id},
                                                            {"client", &out.client},
                                                            {"realm", &out.realm},
                                                            {"nas", &out.nas},
                                                            {"calling_station", &out.calling_station},
                                                            {"framed_ip", &out.framed_ip}};
  for (const auto& [key, value] : asked.request.query) {
    if (std::find(others.begin(), others.end(), key) != others.end()) continue;
    if (const auto text = text_parts.find(key); text != text_parts.end()) {
      *text->second = value;
    } else if (key == "id" && is_number(value)) {
      out.id = std::stoll(value);
    } else if (key == "behind" && is_number(value)) {
      out.behind = std::stoll(value);
    } else if (key == "since" || key == "until") {
      if (!moment_in(asked.request, asked.response, key.c_str(), key == "since" ? out.since : out.until))
        return std::nullopt;
    } else if (key == "open" && (value == "true" || value == "false")) {
      out.open_only = value == "true";
    } else if (key == "lost" && (value == "true" || value == "false")) {
      out.lost_only = value == "true";
    } else if (key == "most" && is_number(value) && std::stoul(value) <= kMostListed) {
      out.most = std::stoul(value);
    } else {
      problem(asked.response, 400, "Not understood",
              fmt::format("'{}={}' is no part of a query; allowed: user, session_id, client, realm, nas, "
                          "calling_station, framed_ip, id, behind, since, until, open=true|false, "
                          "lost=true|false, most=0 to {}{}{}",
                          escaped(key), escaped(value), kMostListed, others.size() == 0 ? "" : ", ",
                          fmt::join(others, ", ")));
      return std::nullopt;
    }
  }
  return out;
}

std::string label_of(const plan::Plan& plan, const std::string& client, std::string_view label) {
  const plan::Client* known = plan.client_named(client);
  if (known == nullptr) return "";
  for (const auto& [name, value] : known->labels) {
    if (name == label) return value;
  }
  return "";
}

}  // namespace jembatan::admin
