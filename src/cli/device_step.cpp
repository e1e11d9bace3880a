#include "cli/device_step.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>
#include <thread>

#include "base/text.h"
#include "cli/device.h"
#include "cli/error_cause.h"
#include "cli/packet_text.h"
#include "cli/peer.h"
#include "dictionary/encode.h"

namespace jembatan::cli {
namespace {

using namespace std::chrono_literals;
using nlohmann::json;
using rehearsal::Step;

constexpr auto kKnownWithin = 10s;  // accounting arrives behind its answers
constexpr auto kLookAgain = 20ms;

Result<json> open_session(NodeClient& node, const std::string& session) {
  const auto until = std::chrono::steady_clock::now() + kKnownWithin;
  while (true) {
    const auto body = node.call("GET", "/v1/sessions", {{"session_id", session}, {"open", "true"}});
    if (!body) return body.error();
    if (!body->at("sessions").empty()) return body->at("sessions").front();
    if (std::chrono::steady_clock::now() >= until)
      return fail(Errc::not_found, fmt::format("session {} did not become known within {}", session,
                                               text_of(Duration(kKnownWithin))));
    std::this_thread::sleep_for(kLookAgain);
  }
}

Came came_of(const json& body) {
  Came out;
  out.took = std::chrono::microseconds(body.value("took_us", std::int64_t{0}));
  if (body.at("answer").is_null()) {
    out.problem = body.value("why", "");
    return out;
  }
  out.code = body.at("answer").get<std::string>();
  Octets attributes;
  for (const json& one : body.at("attributes")) {
    if (one.value("depth", 0) > 0) continue;
    const json& value = one.at("value");
    const auto encoded = dictionary::encode(dictionary::standard(), one.value("name", ""),
                                            value.is_string() ? value.get<std::string>() : value.dump());
    if (encoded) append(attributes, *encoded);
  }
  out.lines = dictionary::describe(dictionary::standard(), attributes);
  return out;
}

}  // namespace

Result<Came> ask_device(const FirstHop& first, NodeClient& asking, const DeviceStep& what) {
  const auto answer = parse_device_answer(what.step.device);
  if (!answer) return answer.error();
  const auto at_first = open_session(first.node, what.session);
  if (!at_first) return at_first.error();
  const auto session = open_session(asking, what.session);
  if (!session) return session.error();
  Arguments options = first.options;
  options.set("--client", at_first->value("client", ""));
  const auto device = find_played_device(options);
  if (!device) return device.error();
  const auto playing =
      Device::start(device->to, wire::SharedSecret(device->secret), *answer, [](const Device::Came&) {});
  if (!playing) return playing.error();
  json body{{"number", session->at("number")}};
  const bool change = what.step.kind == Step::Kind::change;
  if (change) {
    body["attributes"] = json::array();
    for (const auto& [name, value] : what.step.send)
      body["attributes"].push_back({{"name", name}, {"value", value}});
  }
  const auto came = asking.post(change ? "/v1/sessions/change" : "/v1/sessions/disconnect", body);
  if (!came) return came.error();
  return came_of(*came);
}

}  // namespace jembatan::cli
