#include "admin/api.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <nlohmann/json.hpp>

#include "admin/accounting_calls.h"
#include "admin/answers.h"
#include "admin/callers.h"
#include "admin/directory_calls.h"
#include "admin/explain_calls.h"
#include "admin/factor_calls.h"
#include "admin/feed_calls.h"
#include "admin/http_server.h"
#include "admin/journal_calls.h"
#include "admin/node_calls.h"
#include "admin/plan_calls.h"
#include "admin/server_calls.h"
#include "admin/session_calls.h"
#include "admin/trust_calls.h"
#include "base/text.h"
#include "document/parse.h"

namespace jembatan::admin {
namespace {

using revision::Author;
using revision::Role;

constexpr std::size_t kLargestBody = 1U << 20U;    // of most calls
constexpr std::size_t kLargestPlan = 128U << 20U;  // of those that bring a plan

struct Route {
  std::string_view method;
  std::string_view path;
  Role role;  ///< that the caller needs at least
  Call run;
  std::size_t largest_body = kLargestBody;
};

constexpr Route kRoutes[] = {
    {"GET", "/metrics", Role::viewer, show_metrics},
    {"GET", "/v1/node", Role::viewer, show_node},
    {"GET", "/v1/nodes", Role::viewer, list_shared_nodes},
    {"POST", "/v1/nodes/admit", Role::administrator, admit_node},
    {"GET", "/v1/servers", Role::viewer, list_servers},
    {"GET", "/v1/servers/mirrors", Role::viewer, list_mirrors},
    {"POST", "/v1/servers/check", Role::operator_, check_server},
    {"GET", "/v1/directories", Role::viewer, list_directories},
    {"POST", "/v1/directories/check", Role::operator_, check_directory},
    {"POST", "/v1/directories/forget", Role::operator_, forget_people},
    {"GET", "/v1/enrolments", Role::viewer, list_enrolments},
    {"POST", "/v1/factors/try", Role::operator_, try_code},
    {"POST", "/v1/users/check", Role::operator_, check_user},
    {"POST", "/v1/users/unlock", Role::operator_, unlock_user},
    {"GET", "/v1/sessions", Role::viewer, list_sessions},
    {"POST", "/v1/sessions/disconnect", Role::operator_, disconnect_session},
    {"POST", "/v1/sessions/change", Role::operator_, change_session},
    {"GET", "/v1/accounting/records", Role::viewer, list_records},
    {"GET", "/v1/accounting/record", Role::viewer, show_record},
    {"GET", "/v1/accounting/queue", Role::viewer, show_queue},
    {"POST", "/v1/accounting/queue/redirect", Role::operator_, redirect_queue},
    {"GET", "/v1/accounting/store", Role::viewer, show_accounting_store},
    {"GET", "/v1/accounting/usage", Role::viewer, show_usage},
    {"GET", "/v1/accounting/ledger/hours", Role::viewer, show_ledger_hours},
    {"GET", "/v1/accounting/ledger/slots", Role::viewer, show_ledger_slots},
    {"GET", "/v1/accounting/ledger/entries", Role::viewer, show_ledger_entries},
    {"GET", "/v1/accounting/ledger/late", Role::viewer, show_ledger_late},
    {"GET", "/v1/events", Role::viewer, follow_events},
    {"GET", "/v1/capture", Role::operator_, capture_traffic},
    {"POST", "/v1/plan/reload", Role::operator_, reload_plan},
    {"POST", "/v1/plan/apply", Role::operator_, apply_plan, kLargestPlan},
    {"POST", "/v1/plan/preview", Role::operator_, preview_plan, kLargestPlan},
    {"POST", "/v1/plan/change", Role::operator_, change_plan, kLargestPlan},
    {"POST", "/v1/plan/restore", Role::operator_, restore_plan},
    {"GET", "/v1/plan/revisions", Role::viewer, list_revisions},
    {"GET", "/v1/plan/difference", Role::viewer, show_difference},
    {"GET", "/v1/plan/files", Role::viewer, show_files},
    {"GET", "/v1/plan/objects", Role::viewer, list_objects},
    {"POST", "/v1/plan/secret", Role::administrator, peer_secret},
    {"GET", "/v1/clients/rotations", Role::viewer, list_rotations},
    {"POST", "/v1/explain", Role::viewer, explain},
    {"GET", "/v1/journal", Role::operator_, search_journal},
    {"GET", "/v1/journal/entry", Role::operator_, show_journal_entry},
    {"POST", "/v1/journal/unmask", Role::administrator, start_unmask},
    {"GET", "/v1/journal/unmask", Role::administrator, show_unmask},
    {"GET", "/v1/audit", Role::operator_, show_audit},
    {"GET", "/v1/tokens", Role::administrator, list_tokens},
    {"POST", "/v1/tokens", Role::administrator, create_token},
    {"POST", "/v1/tokens/revoke", Role::administrator, revoke_token},
};

// Answered to anybody, and at once: what looks after the node asks these.
constexpr std::string_view kHealth = "/healthz";
constexpr std::string_view kReady = "/readyz";

const Route* route_of(const Request& request) {
  const auto* found = std::find_if(std::begin(kRoutes), std::end(kRoutes), [&](const Route& route) {
    return route.method == request.method && route.path == request.path;
  });
  return found == std::end(kRoutes) ? nullptr : found;
}

// The methods that a path has, if it has any: "GET, POST".
std::string methods_of(std::string_view path) {
  if (path == kHealth || path == kReady) return "GET";
  std::vector<std::string> out;
  for (const Route& route : kRoutes) {
    if (route.path == path) out.emplace_back(route.method);
  }
  return join(out, ", ");
}

}  // namespace

class Api::Routes final : public HttpCalls {
 public:
  Routes(server::Server& server, Secret token) : server_(server), callers_(std::move(token)) {}

  ~Routes() override {
    stopping_ = true;
    server_.on_new_tokens(nullptr);
    http_.reset();
  }

  Status listen() {
    const Status known =
        server_.with_archive([&](revision::Archive& archive) { return know_tokens(archive, callers_); });
    if (!known) return known;
    server_.on_new_tokens([this] {
      (void)server_.with_archive([&](revision::Archive& archive) { return know_tokens(archive, callers_); });
    });
    HttpSettings settings;
    settings.at = server_.settings().management;
    if (!server_.settings().certificate.empty()) {
      auto certificate = document::read_file(server_.settings().certificate);
      if (!certificate) return certificate.error().at("certificate");
      auto key = document::read_file(server_.settings().private_key);
      if (!key) return key.error().at("private_key");
      settings.certificate = std::move(*certificate);
      settings.private_key = Secret(*key);
      wipe(OctetSpan(reinterpret_cast<std::uint8_t*>(key->data()), key->size()));
    }
    auto http = HttpServer::start(std::move(settings), *this);
    if (!http) return http.error();
    http_ = std::move(*http);
    return {};
  }

  // Nothing is let through that is not in the table above, for a caller whose role is not enough, or in a
  // method that it does not have.
  std::optional<Response> judge(const Request& head, std::size_t& most_body) override {
    Response out;
    if (head.method == "GET" && (head.path == kHealth || head.path == kReady)) {
      answer_watcher(head.path, out);
      return out;
    }
    const auto caller = callers_.judge(head.authorization, head.from, std::chrono::steady_clock::now());
    if (!caller.author) {
      refuse_stranger(caller.too_often, out);
      return out;
    }
    const Route* route = route_of(head);
    if (route == nullptr) {
      refuse_unknown(head, out);
      return out;
    }
    if (caller.author->role < route->role) {
      problem(out, 403, "Not allowed",
              fmt::format("{} {} needs the role {}; token '{}' has the role {}", route->method, route->path,
                          revision::name_of(route->role), caller.author->name,
                          revision::name_of(caller.author->role)));
      return out;
    }
    most_body = route->largest_body;
    return std::nullopt;
  }

  Response answer(const Request& request) override {
    Response out;
    const Route* route = route_of(request);
    const auto caller = callers_.judge(request.authorization, request.from, std::chrono::steady_clock::now());
    if (route == nullptr || !caller.author) {  // the token was revoked while the body came
      refuse_stranger(false, out);
      return out;
    }
    route->run({server_, callers_, *caller.author, request, out});
    return out;
  }

 private:
  void answer_watcher(std::string_view path, Response& out) const {
    const std::string why = path == kHealth ? "" : why_not_ready();
    if (!why.empty()) out.status = 503;
    out.body = path == kHealth ? "ok\n" : (why.empty() ? "ready" : why) + "\n";
    if (path == kReady && why.empty() && !server_.degraded().empty())
      out.body = "ready, but degraded: " + server_.degraded() + "\n";
  }

  std::string why_not_ready() const {
    if (stopping_) return "stopping";
    return server_.why_not_ready();
  }

  static void refuse_stranger(bool too_often, Response& out) {
    if (too_often) {
      problem(out, 429, "Too often", "too many requests from this address had no token of this node");
      out.headers = {{"Retry-After", "60"}, {"Connection", "close"}};
      return;
    }
    problem(out, 401, "Not allowed", "the request has no bearer token, or none of this node's");
    out.headers = {{"WWW-Authenticate", "Bearer"}, {"Connection", "close"}};
  }

  static void refuse_unknown(const Request& head, Response& out) {
    const std::string methods = methods_of(head.path);
    if (methods.empty())
      return problem(out, 404, "No such call",
                     fmt::format("{} {}", escaped(head.method), escaped(head.path)));
    problem(out, 405, "No such method",
            fmt::format("{} {}; allowed: {}", escaped(head.method), head.path, methods));
    out.headers = {{"Allow", methods}};
  }

  server::Server& server_;
  Callers callers_;
  std::atomic<bool> stopping_{false};
  std::unique_ptr<HttpServer> http_;
};

Api::Api(std::unique_ptr<Routes> routes) : routes_(std::move(routes)) {}
Api::~Api() = default;

Result<std::unique_ptr<Api>> Api::start(server::Server& server, Secret token) {
  auto routes = std::make_unique<Routes>(server, std::move(token));
  if (const Status listening = routes->listen(); !listening) return listening.error();
  return std::unique_ptr<Api>(new Api(std::move(routes)));
}

std::vector<std::string> Api::calls() {
  std::vector<std::string> out{fmt::format("GET {}", kHealth), fmt::format("GET {}", kReady)};
  for (const Route& route : kRoutes) out.push_back(fmt::format("{} {}", route.method, route.path));
  return out;
}

}  // namespace jembatan::admin
