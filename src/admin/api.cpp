#include "admin/api.h"

#include <fmt/format.h>
#include <httplib.h>

#include <algorithm>
#include <atomic>
#include <nlohmann/json.hpp>
#include <thread>

#include "admin/answers.h"
#include "admin/capture.h"
#include "admin/journal_calls.h"
#include "admin/json.h"
#include "admin/metrics.h"
#include "admin/plan_calls.h"
#include "admin/trust_calls.h"
#include "base/text.h"
#include "journal/tell.h"

namespace jembatan::admin {
namespace {

using namespace std::chrono_literals;
using nlohmann::json;
using revision::Author;
using revision::Role;

constexpr std::size_t kThreads = 32;
constexpr int kMostFollowers = 16;
constexpr std::size_t kLargestBody = 1 << 20;     // of most calls
constexpr std::size_t kLargestPlan = 128U << 20;  // of those that bring a plan
constexpr std::size_t kMostRows = 10000;

// The query's parts; nothing (and a problem) if one of them is not understood.
std::optional<accounting::Query> read_query(const httplib::Request& request, httplib::Response& response) {
  accounting::Query out;
  for (const auto& [key, value] : request.params) {
    if (key == "user") {
      out.user = value;
    } else if (key == "session_id") {
      out.session_id = value;
    } else if (key == "client") {
      out.client = value;
    } else if (key == "realm") {
      out.realm = value;
    } else if (key == "open" && (value == "true" || value == "false")) {
      out.open_only = value == "true";
    } else if (key == "most" && !value.empty() && value.size() < 6 &&
               value.find_first_not_of("0123456789") == std::string::npos && std::stoul(value) <= kMostRows) {
      out.most = std::stoul(value);
    } else {
      problem(response, 400, "Not understood",
              fmt::format(
                  "'{}={}' is no part of a query; allowed: user, session_id, client, realm, open=true|false, "
                  "most=0 to {}",
                  key, value, kMostRows));
      return std::nullopt;
    }
  }
  return out;
}

}  // namespace

class Api::Routes {
 public:
  Routes(server::Server& server, Secret token)
      : server_(server), token_(std::move(token)), http_(make_http(server.settings())) {
    http_->new_task_queue = [] { return new httplib::ThreadPool(kThreads); };
    http_->set_payload_max_length(kLargestPlan);
    http_->set_keep_alive_timeout(1);
    http_->set_pre_routing_handler([this](const httplib::Request& request, httplib::Response& response) {
      return check_caller(request, response);
    });
    http_->set_error_handler([](const httplib::Request& request, httplib::Response& response) {
      if (!response.body.empty()) return;
      problem(response, response.status, response.status == 404 ? "No such call" : "Not understood",
              fmt::format("{} {}", request.method, request.path));
    });
    for (const Call& call : calls()) {
      const auto handler = [this, &call](const httplib::Request& request, httplib::Response& response) {
        run(call, request, response);
      };
      if (std::string_view(call.method) == "GET") {
        http_->Get(call.path, handler);
      } else {
        http_->Post(call.path, handler);
      }
    }
  }

  ~Routes() {
    stopping_ = true;
    http_->stop();
    if (thread_.joinable()) thread_.join();
  }

  Status listen() {
    const Endpoint& at = server_.settings().management;
    if (!http_->is_valid()) {
      return fail(Errc::io, fmt::format("certificate '{}' with key '{}' cannot be used for TLS",
                                        server_.settings().certificate.string(),
                                        server_.settings().private_key.string()));
    }
    if (!http_->bind_to_port(at.address.text(), at.port)) {
      return fail(Errc::conflict, fmt::format("management address {}: TCP port {} is in use or not allowed",
                                              at.address.text(), at.port));
    }
    thread_ = std::thread([this] {
      http_->listen_after_bind();
      ended_ = true;
    });
    // A stop() before the server runs would be lost.
    while (!http_->is_running() && !ended_) std::this_thread::sleep_for(1ms);
    return {};
  }

  using PlanCall = void (*)(const Asked&);
  struct Call {
    const char* method;
    const char* path;
    Role role;  ///< that the caller needs at least
    void (Routes::*run)(const httplib::Request&, httplib::Response&);
    PlanCall about_plan = nullptr;  ///< instead of `run`
    std::size_t largest_body = kLargestBody;
  };
  static const std::vector<Call>& calls() {
    static const std::vector<Call> all{
        {"GET", "/healthz", Role::viewer, &Routes::health},
        {"GET", "/readyz", Role::viewer, &Routes::ready},
        {"GET", "/metrics", Role::viewer, &Routes::metrics},
        {"GET", "/v1/node", Role::viewer, &Routes::node},
        {"GET", "/v1/sessions", Role::viewer, &Routes::sessions},
        {"GET", "/v1/accounting/records", Role::viewer, &Routes::records},
        {"GET", "/v1/events", Role::viewer, &Routes::events},
        {"GET", "/v1/capture", Role::operator_, &Routes::capture},
        {"POST", "/v1/plan/reload", Role::operator_, nullptr, reload_plan},
        {"POST", "/v1/plan/apply", Role::operator_, nullptr, apply_plan, kLargestPlan},
        {"POST", "/v1/plan/change", Role::operator_, nullptr, change_plan, kLargestPlan},
        {"POST", "/v1/plan/restore", Role::operator_, nullptr, restore_plan},
        {"GET", "/v1/plan/revisions", Role::viewer, nullptr, list_revisions},
        {"GET", "/v1/plan/difference", Role::viewer, nullptr, show_difference},
        {"GET", "/v1/plan/files", Role::viewer, nullptr, show_files},
        {"GET", "/v1/plan/objects", Role::viewer, nullptr, list_objects},
        {"POST", "/v1/clients/secret", Role::administrator, nullptr, client_secret},
        {"GET", "/v1/clients/rotations", Role::viewer, nullptr, list_rotations},
        {"POST", "/v1/explain", Role::viewer, nullptr, explain},
        {"GET", "/v1/journal", Role::operator_, nullptr, search_journal},
        {"GET", "/v1/journal/entry", Role::operator_, nullptr, show_journal_entry},
        {"POST", "/v1/journal/unmask", Role::administrator, nullptr, start_unmask},
        {"GET", "/v1/journal/unmask", Role::administrator, nullptr, show_unmask},
        {"GET", "/v1/audit", Role::operator_, nullptr, show_audit},
        {"GET", "/v1/tokens", Role::administrator, nullptr, list_tokens},
        {"POST", "/v1/tokens", Role::administrator, nullptr, create_token},
        {"POST", "/v1/tokens/revoke", Role::administrator, nullptr, revoke_token},
    };
    return all;
  }

 private:
  using Handled = httplib::Server::HandlerResponse;

  static std::unique_ptr<httplib::Server> make_http(const server::NodeSettings& settings) {
    if (settings.certificate.empty()) return std::make_unique<httplib::Server>();
    return std::make_unique<httplib::SSLServer>(settings.certificate.c_str(), settings.private_key.c_str());
  }

  // Whose token it is: the node's own file is an administrator called "local".
  std::optional<Author> caller_of(const httplib::Request& request) {
    static constexpr std::string_view kScheme = "Bearer ";
    const std::string given = request.get_header_value("Authorization");
    if (!given.starts_with(kScheme)) return std::nullopt;
    const OctetView token = view_of(std::string_view(given).substr(kScheme.size()));
    if (equal_in_constant_time(token, token_.reveal()))
      return Author{"local", Role::administrator, request.remote_addr};
    const auto found = server_.with_archive(
        [&](revision::Archive& archive) { return archive.token_with(revision::sha256(token)); });
    if (!found || !*found) return std::nullopt;
    return Author{(*found)->name, (*found)->role, request.remote_addr};
  }

  // Before the body is read: who asks, may they, and is it too much.
  Handled check_caller(const httplib::Request& request, httplib::Response& response) {
    if (request.path == "/healthz" || request.path == "/readyz") return Handled::Unhandled;
    const auto caller = caller_of(request);
    if (!caller) {
      response.set_header("WWW-Authenticate", "Bearer");
      problem(response, 401, "Not allowed", "the request has no bearer token, or none of this node's");
      return Handled::Handled;
    }
    const auto call = std::find_if(calls().begin(), calls().end(), [&](const Call& c) {
      return request.method == c.method && request.path == c.path;
    });
    if (call == calls().end()) return Handled::Unhandled;
    if (caller->role < call->role) {
      problem(response, 403, "Not allowed",
              fmt::format("{} {} needs the role {}; token '{}' has the role {}", call->method, call->path,
                          revision::name_of(call->role), caller->name, revision::name_of(caller->role)));
      return Handled::Handled;
    }
    if (request.get_header_value<std::uint64_t>("Content-Length") > call->largest_body) {
      response.set_header("Connection", "close");
      problem(response, 413, "Too large",
              fmt::format("a body of {} takes {} MiB at the most", call->path, call->largest_body >> 20U));
      return Handled::Handled;
    }
    return Handled::Unhandled;
  }

  void run(const Call& call, const httplib::Request& request, httplib::Response& response) {
    if (call.about_plan == nullptr) return (this->*call.run)(request, response);
    const auto caller = caller_of(request);
    if (caller) call.about_plan({server_, *caller, request, response});
  }

  void ready(const httplib::Request&, httplib::Response& response) {
    const auto revision = server_.plan()->revision;
    if (stopping_ || revision == 0) {
      response.status = 503;
      response.set_content(stopping_ ? "stopping\n" : "no plan in force yet\n", "text/plain");
      return;
    }
    response.set_content("ready\n", "text/plain");
  }

  void metrics(const httplib::Request&, httplib::Response& response) {
    response.set_content(metrics_text(server_), "text/plain; version=0.0.4");
  }

  void health(const httplib::Request&, httplib::Response& response) {
    response.set_content("ok\n", "text/plain");
  }

  void node(const httplib::Request&, httplib::Response& response) {
    answer(response, json_of(server_.status()));
  }

  template <class Row>
  void rows(const httplib::Request& request, httplib::Response& response, std::string_view name,
            Result<std::vector<Row>> (accounting::Store::*find)(const accounting::Query&),
            const std::function<json(const Row&)>& body_of) {
    const auto query = read_query(request, response);
    if (!query) return;
    auto store = server_.open_accounting();
    if (!store) return problem(response, 500, "The store cannot be read", store.error().text);
    accounting::Store& reader = **store;
    const auto found = (reader.*find)(*query);
    if (!found) return problem(response, 500, "The store cannot be read", found.error().text);
    json list = json::array();
    for (const Row& row : *found) list.push_back(body_of(row));
    answer(response, {{std::string(name), list}});
  }

  void sessions(const httplib::Request& request, httplib::Response& response) {
    rows<accounting::Session>(request, response, "sessions", &accounting::Store::sessions,
                              [](const accounting::Session& session) { return json_of(session); });
  }

  void records(const httplib::Request& request, httplib::Response& response) {
    const auto live = server_.plan();
    rows<accounting::Record>(
        request, response, "records", &accounting::Store::records,
        [live](const accounting::Record& record) { return json_of(record, *live->plan->catalogue); });
  }

  // What somebody who follows wants to see: all, or requests for which a condition holds.
  struct Wanted {
    plan::PlanPtr plan;  // whose catalogue the condition was checked with
    std::optional<condition::Condition> when;
    bool holds_for(const std::variant<engine::Event, engine::Notice>& item) const {
      const auto* event = std::get_if<engine::Event>(&item);
      return !when || (event != nullptr && journal::holds_for(*when, *event));
    }
  };
  bool read_wanted(const httplib::Request& request, httplib::Response& response, Wanted& out) {
    if (!request.has_param("where")) return true;
    out.plan = server_.plan()->plan;
    std::vector<condition::Mistake> mistakes;
    const std::string source = request.get_param_value("where");
    out.when = condition::Condition::parse(source, *out.plan->catalogue, mistakes);
    if (out.when) return true;
    const condition::Mistake& first = mistakes.front();
    problem(response, 400, "Not understood",
            fmt::format("where, column {}: {}{}", first.at + 1, first.text,
                        first.allowed.empty() ? "" : "; allowed: " + first.allowed));
    return false;
  }

  // Server-sent events: one JSON document each; a comment every second shows that the line is alive.
  void events(const httplib::Request& request, httplib::Response& response) {
    auto wanted = std::make_shared<Wanted>();
    if (!read_wanted(request, response, *wanted)) return;
    if (followers_.fetch_add(1) >= kMostFollowers) {
      followers_.fetch_sub(1);
      return problem(response, 503, "Too many followers",
                     fmt::format("at most {} can follow a node", kMostFollowers));
    }
    auto follower = std::make_shared<server::Feed::Follower>(server_.feed());
    response.set_chunked_content_provider(
        "text/event-stream",
        [this, follower, wanted](std::size_t, httplib::DataSink& sink) {
          std::string text;
          for (const auto& item : follower->take(1000ms)) {
            if (wanted->holds_for(*item)) text += "data: " + json_of(*item).dump() + "\n\n";
          }
          if (text.empty()) text = ": waiting\n\n";
          return !stopping_ && sink.write(text.data(), text.size());
        },
        [this](bool) { followers_.fetch_sub(1); });
  }

  // The traffic of a client, a user or all, for a time, as a capture file that grows while it happens.
  void capture(const httplib::Request& request, httplib::Response& response) {
    const auto wanted = read_capture_wish(request, response);
    if (!wanted) return;
    if (followers_.fetch_add(1) >= kMostFollowers) {
      followers_.fetch_sub(1);
      return problem(response, 503, "Too many followers",
                     fmt::format("at most {} can follow a node", kMostFollowers));
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
    auto capturing = std::make_shared<Capturing>(server_.tap(), *wanted);
    response.set_chunked_content_provider(
        "application/vnd.tcpdump.pcap",
        [this, capturing](std::size_t, httplib::DataSink& sink) {
          std::string text = capturing->begun ? "" : capture_head();
          capturing->begun = true;
          for (const auto& tapped : capturing->listener.take(200ms)) {
            if (capturing->filter.wants(tapped)) text += capture_frame(tapped);
          }
          if (!text.empty() && !sink.write(text.data(), text.size())) return false;
          if (stopping_ || std::chrono::steady_clock::now() >= capturing->until) sink.done();
          return true;
        },
        [this](bool) { followers_.fetch_sub(1); });
  }

  struct CaptureWish {
    Duration time{30000};
    forward::LivePlanPtr live;
    const plan::Client* client = nullptr;
    std::string user;
  };

  std::optional<CaptureWish> read_capture_wish(const httplib::Request& request, httplib::Response& response) {
    CaptureWish out;
    out.live = server_.plan();
    const auto refuse = [&](const std::string& why) {
      problem(response, 400, "Not understood", why);
      return std::nullopt;
    };
    for (const auto& [key, value] : request.params) {
      if (key == "for") {
        const auto time = parse_duration(value);
        if (!time || *time < 100ms || *time > 1h)
          return refuse(fmt::format("'for={}'; allowed: 100ms to 1h", value));
        out.time = *time;
      } else if (key == "client") {
        const auto client = plan::find_client(*out.live->plan, value);
        if (!client) return refuse(client.error().text);
        out.client = *client;
      } else if (key == "user") {
        out.user = value;
      } else {
        return refuse(fmt::format("'{}' is no part of a capture; allowed: for, client, user", key));
      }
    }
    return out;
  }

  server::Server& server_;
  Secret token_;
  std::unique_ptr<httplib::Server> http_;
  std::atomic<bool> ended_{false};  // the thread that listens
  std::atomic<bool> stopping_{false};
  std::atomic<int> followers_{0};
  std::thread thread_;
};

Api::Api(std::unique_ptr<Routes> routes) : routes_(std::move(routes)) {}
Api::~Api() = default;

Result<std::unique_ptr<Api>> Api::start(server::Server& server, Secret token) {
  auto routes = std::make_unique<Routes>(server, std::move(token));
  if (const Status listening = routes->listen(); !listening) return listening.error();
  return std::unique_ptr<Api>(new Api(std::move(routes)));
}

std::vector<std::string> Api::calls() {
  std::vector<std::string> out;
  for (const Routes::Call& call : Routes::calls())
    out.push_back(fmt::format("{} {}", call.method, call.path));
  return out;
}

}  // namespace jembatan::admin
