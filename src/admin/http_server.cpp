#include "admin/http_server.h"

#include <fmt/format.h>
#include <microhttpd.h>
#include <netinet/in.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <condition_variable>
#include <cstring>
#include <deque>
#include <list>
#include <mutex>
#include <set>
#include <thread>

#include "base/text.h"
#include "host/port_holder.h"
#include "host/process.h"
#include "host/socket_address.h"
#include "server/log.h"

namespace jembatan::admin {
namespace {

using namespace std::chrono_literals;
using Time = std::chrono::steady_clock::time_point;

constexpr auto kPumpEvery = 20ms;
constexpr std::size_t kLongestPiece = 64U << 10U;
constexpr unsigned kReserve = 32;    // connections that are being cut off do not count
constexpr unsigned kSilentFor = 30;  // seconds that a caller may leave an answer unread
constexpr const char* kVersions = "SECURE128:-VERS-ALL:+VERS-TLS1.3:+VERS-TLS1.2";

Time steady_now() {
  return std::chrono::steady_clock::now();
}

Response plain(int status, std::string text) {
  Response out;
  out.status = status;
  out.body = std::move(text) + "\n";
  return out;
}

Result<int> listen_on(const Endpoint& at) {
  const int family = at.address.family == Family::v4 ? AF_INET : AF_INET6;
  const int fd = ::socket(family, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
  const int yes = 1;
  if (fd >= 0) setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof(yes));
  host::SocketAddress address(at);
  if (fd >= 0 && ::bind(fd, address.generic(), address.length) == 0 && ::listen(fd, SOMAXCONN) == 0)
    return fd;
  const int error = errno;
  if (fd >= 0) ::close(fd);
  return host::bind_problem(at, host::Transport::tcp, error).at("management");
}

MHD_Result take_value(void* out, MHD_ValueKind, const char* key, std::size_t key_size, const char* value,
                      std::size_t size) {
  static_cast<Request*>(out)->query.emplace(std::string(key, key_size),
                                            value == nullptr ? std::string() : std::string(value, size));
  return MHD_YES;
}

std::string header_of(MHD_Connection* connection, const char* name) {
  const char* value = MHD_lookup_connection_value(connection, MHD_HEADER_KIND, name);
  return value == nullptr ? "" : value;
}

std::string address_of(MHD_Connection* connection) {
  const auto* info = MHD_get_connection_info(connection, MHD_CONNECTION_INFO_CLIENT_ADDRESS);
  if (info == nullptr || info->client_addr == nullptr) return "";
  sockaddr_storage storage{};
  std::memcpy(&storage, info->client_addr,
              info->client_addr->sa_family == AF_INET ? sizeof(sockaddr_in) : sizeof(sockaddr_in6));
  return host::endpoint_of(storage).address.text();
}

}  // namespace

class HttpServer::Running {
 public:
  Running(HttpSettings settings, HttpCalls& calls) : settings_(std::move(settings)), calls_(calls) {}

  ~Running() {
    {
      const std::lock_guard lock(mutex_);
      stopping_ = true;
    }
    work_.notify_all();
    for (std::thread& thread : pool_) thread.join();
    if (pump_.joinable()) pump_.join();
    end_streams();
    if (daemon_ != nullptr) MHD_stop_daemon(daemon_);
  }

  Status start() {
    auto socket = listen_on(settings_.at);
    if (!socket) return socket.error();
    unsigned flags = MHD_USE_INTERNAL_POLLING_THREAD | MHD_USE_EPOLL | MHD_ALLOW_SUSPEND_RESUME;
    std::vector<MHD_OptionItem> options{
        {MHD_OPTION_LISTEN_SOCKET, *socket, nullptr},
        {MHD_OPTION_CONNECTION_LIMIT, static_cast<intptr_t>(settings_.most_connections + kReserve), nullptr},
        {MHD_OPTION_CONNECTION_TIMEOUT, kSilentFor, nullptr},
        {MHD_OPTION_NOTIFY_CONNECTION, reinterpret_cast<intptr_t>(&on_connection), this},
        {MHD_OPTION_NOTIFY_COMPLETED, reinterpret_cast<intptr_t>(&on_completed), this},
    };
    const std::string key(text_of(settings_.private_key.reveal()));
    if (!settings_.certificate.empty()) {
      flags |= MHD_USE_TLS;
      options.push_back({MHD_OPTION_HTTPS_MEM_CERT, 0, settings_.certificate.data()});
      options.push_back({MHD_OPTION_HTTPS_MEM_KEY, 0, const_cast<char*>(key.data())});
      options.push_back({MHD_OPTION_HTTPS_PRIORITIES, 0, const_cast<char*>(kVersions)});
    }
    options.push_back({MHD_OPTION_END, 0, nullptr});
    daemon_ = MHD_start_daemon(flags, 0, nullptr, nullptr, &on_request, this, MHD_OPTION_ARRAY,
                               options.data(), MHD_OPTION_END);
    if (daemon_ == nullptr) {
      ::close(*socket);
      return fail(Errc::io, settings_.certificate.empty()
                                ? "the management interface could not be started"
                                : "the certificate with its key cannot be used for TLS");
    }
    for (std::size_t i = 0; i < settings_.threads; ++i)
      pool_.emplace_back([this] {
        host::name_thread("api");
        work();
      });
    pump_ = std::thread([this] {
      host::name_thread("api-pump");
      pump();
    });
    return {};
  }

 private:
  // Whoever has connected; lives as long as the connection.
  struct Caller {
    enum class Phase : std::uint8_t { header, body, answer } phase = Phase::header;
    int fd = -1;
    std::string from;
    Time since;
    bool cut_off = false;
  };

  // An answer in pieces: filled by the pump, emptied by the network thread.
  struct Stream {
    std::mutex mutex;
    std::function<std::optional<std::string>()> more;
    MHD_Connection* connection = nullptr;
    std::string waits;       // to be sent
    bool suspended = false;  // nothing waits: the pump wakes it
    bool ended = false;
  };

  // One request and what becomes of it.
  struct Exchange {
    Request request;
    std::size_t most_body = 0;
    std::optional<Response> response;
    bool asked = false;  // a thread of the pool has it, or had it
  };

  // --- connections: on the network thread ---

  static void on_connection(void* self, MHD_Connection* connection, void** state,
                            MHD_ConnectionNotificationCode what) {
    auto& running = *static_cast<Running*>(self);
    if (what == MHD_CONNECTION_NOTIFY_STARTED) {
      auto caller = std::make_shared<Caller>();
      const auto* info = MHD_get_connection_info(connection, MHD_CONNECTION_INFO_CONNECTION_FD);
      caller->fd = info == nullptr ? -1 : info->connect_fd;
      caller->from = address_of(connection);
      caller->since = steady_now();
      running.admit(caller);
      *state = new std::shared_ptr<Caller>(std::move(caller));
    } else {
      const std::unique_ptr<std::shared_ptr<Caller>> caller(static_cast<std::shared_ptr<Caller>*>(*state));
      const std::lock_guard lock(running.callers_mutex_);
      running.callers_.remove(*caller);
    }
  }

  // Room is made by cutting off who has kept us waiting longest: somebody new is always heard.
  void admit(const std::shared_ptr<Caller>& caller) {
    const std::lock_guard lock(callers_mutex_);
    std::size_t all = 0;
    std::size_t of_address = 0;
    for (const auto& other : callers_) {
      if (other->cut_off) continue;
      ++all;
      if (other->from == caller->from) ++of_address;
    }
    if (of_address >= settings_.most_of_address) {
      cut_off_slowest(&caller->from);
    } else if (all >= settings_.most_connections) {
      cut_off_slowest(nullptr);
    }
    callers_.push_back(caller);  // in the order in which they came
  }

  void cut_off_slowest(const std::string* from) {
    for (const auto phase : {Caller::Phase::header, Caller::Phase::body}) {
      for (const auto& caller : callers_) {
        if (caller->cut_off || caller->phase != phase || (from != nullptr && caller->from != *from)) continue;
        return cut_off(*caller);
      }
    }
  }

  static void cut_off(Caller& caller) {
    caller.cut_off = true;
    ::shutdown(caller.fd, SHUT_RDWR);
  }

  void enter(MHD_Connection* connection, Caller::Phase phase) {
    const auto* info = MHD_get_connection_info(connection, MHD_CONNECTION_INFO_SOCKET_CONTEXT);
    if (info == nullptr || info->socket_context == nullptr) return;
    Caller& caller = **static_cast<std::shared_ptr<Caller>*>(info->socket_context);
    const std::lock_guard lock(callers_mutex_);
    caller.phase = phase;
    caller.since = steady_now();
  }

  void cut_off_late_ones() {
    const std::lock_guard lock(callers_mutex_);
    for (const auto& caller : callers_) {
      if (caller->cut_off || caller->phase == Caller::Phase::answer) continue;
      const auto within =
          caller->phase == Caller::Phase::header ? settings_.header_within : settings_.body_within;
      if (steady_now() - caller->since > within) cut_off(*caller);
    }
  }

  // --- requests: on the network thread ---

  static MHD_Result on_request(void* self, MHD_Connection* connection, const char* url, const char* method,
                               const char*, const char* upload, std::size_t* upload_size, void** state) {
    auto& running = *static_cast<Running*>(self);
    try {
      if (*state == nullptr) {
        auto exchange = std::make_unique<Exchange>();
        read_head(connection, url, method, exchange->request);
        *state = exchange.get();
        return running.begin(connection, *exchange.release());
      }
      auto& exchange = *static_cast<Exchange*>(*state);
      if (*upload_size > 0) return running.take_body(exchange, upload, upload_size);
      return running.go_on(connection, exchange);
    } catch (const std::exception& error) {
      server::log_error(fmt::format("management: {} {}: {}", escaped(method), escaped(url), error.what()));
      return MHD_NO;
    }
  }

  static void read_head(MHD_Connection* connection, const char* url, const char* method, Request& out) {
    out.method = std::string_view(method) == "HEAD" ? "GET" : method;
    out.path = url;
    out.authorization = header_of(connection, "Authorization");
    out.from = address_of(connection);
    const std::string announced = header_of(connection, "Content-Length");
    if (!announced.empty() && announced.size() < 19)
      out.announced = std::strtoull(announced.c_str(), nullptr, 10);
    MHD_get_connection_values_n(connection, MHD_GET_ARGUMENT_KIND, &take_value, &out);
  }

  MHD_Result begin(MHD_Connection* connection, Exchange& exchange) {
    enter(connection, Caller::Phase::body);
    exchange.response = guarded([&] { return calls_.judge(exchange.request, exchange.most_body); });
    if (!exchange.response && exchange.request.announced > exchange.most_body)
      exchange.response = too_large(exchange);
    return exchange.response ? send(connection, exchange) : MHD_YES;
  }

  static Response too_large(const Exchange& exchange) {
    return plain(413, fmt::format("a body of {} takes {} octets at the most", escaped(exchange.request.path),
                                  exchange.most_body));
  }

  MHD_Result take_body(Exchange& exchange, const char* upload, std::size_t* upload_size) {
    const std::size_t size = std::exchange(*upload_size, 0);
    const bool fits = exchange.request.body.size() + size <= exchange.most_body;
    if (fits && in_bodies_.fetch_add(size) + size <= settings_.most_in_bodies) {
      exchange.request.body.append(upload, size);
      return MHD_YES;
    }
    // The library answers behind the last octet alone: whoever sends on without end is cut off.
    if (fits) in_bodies_.fetch_sub(size);
    server::log_warning(
        fmt::format("management: caller {} cut off ({})", exchange.request.from,
                    fits ? "all bodies that are being read are too much together"
                         : too_large(exchange).body.substr(0, too_large(exchange).body.size() - 1)));
    return MHD_NO;
  }

  // The body is whole, or a thread of the pool has made the answer.
  MHD_Result go_on(MHD_Connection* connection, Exchange& exchange) {
    if (exchange.response) return send(connection, exchange);
    if (exchange.asked) return MHD_NO;
    exchange.asked = true;
    enter(connection, Caller::Phase::answer);
    {
      const std::lock_guard lock(mutex_);
      if (!stopping_ && waiting_.size() < settings_.most_waiting) {
        MHD_suspend_connection(connection);
        waiting_.push_back({&exchange, connection});
        work_.notify_one();
        return MHD_YES;
      }
    }
    exchange.response = plain(503, "too many calls wait to be answered: try again later");
    return send(connection, exchange);
  }

  MHD_Result send(MHD_Connection* connection, Exchange& exchange) {
    enter(connection, Caller::Phase::answer);
    Response& response = *exchange.response;
    MHD_Response* out = response.more ? streamed(connection, response) : nullptr;
    if (out == nullptr)
      out =
          MHD_create_response_from_buffer(response.body.size(), response.body.data(), MHD_RESPMEM_MUST_COPY);
    MHD_add_response_header(out, "Content-Type", response.type.c_str());
    for (const auto& [name, value] : response.headers)
      MHD_add_response_header(out, name.c_str(), value.c_str());
    const MHD_Result queued = MHD_queue_response(connection, static_cast<unsigned>(response.status), out);
    MHD_destroy_response(out);
    return queued;
  }

  static void on_completed(void* self, MHD_Connection* connection, void** state, MHD_RequestTerminationCode) {
    auto& running = *static_cast<Running*>(self);
    const std::unique_ptr<Exchange> exchange(static_cast<Exchange*>(*state));
    *state = nullptr;
    if (exchange == nullptr) return;
    running.forget_body(*exchange);
    running.enter(connection, Caller::Phase::header);  // of the next request
  }

  void forget_body(Exchange& exchange) {
    in_bodies_.fetch_sub(exchange.request.body.size());
    wipe(OctetSpan(reinterpret_cast<std::uint8_t*>(exchange.request.body.data()),
                   exchange.request.body.size()));
    exchange.request.body.clear();
  }

  // What `make` gives; a 500 if it throws.
  template <class Make>
  static std::optional<Response> guarded(Make make) {
    try {
      return make();
    } catch (const std::exception& error) {
      server::log_error(fmt::format("management: a call failed: {}", escaped(error.what())));
      return plain(500, "this call failed; the node's log says more");
    }
  }

  // --- calls: on the pool's threads ---

  struct Waiting {
    Exchange* exchange = nullptr;
    MHD_Connection* connection = nullptr;
  };

  void work() {
    for (;;) {
      std::unique_lock lock(mutex_);
      work_.wait(lock, [this] { return stopping_ || !waiting_.empty(); });
      if (waiting_.empty()) return;
      const Waiting next = waiting_.front();
      waiting_.pop_front();
      const bool stopping = stopping_;
      lock.unlock();
      next.exchange->response =
          stopping ? plain(503, "the node stops")
                   : guarded([&] { return std::optional(calls_.answer(next.exchange->request)); });
      MHD_resume_connection(next.connection);
    }
  }

  // --- answers in pieces: filled on the pump's thread, sent on the network thread ---

  // Nothing, with another answer in its place, if there are too many already.
  MHD_Response* streamed(MHD_Connection* connection, Response& response) {
    const std::lock_guard lock(streams_mutex_);
    if (closed_ || streams_.size() >= settings_.most_streams) {
      response = plain(503, fmt::format("at most {} can follow a node at a time", settings_.most_streams));
      return nullptr;
    }
    auto stream = std::make_shared<Stream>();
    stream->more = std::move(response.more);
    stream->connection = connection;
    streams_.insert(stream);
    auto* held = new Held{this, std::move(stream)};
    return MHD_create_response_from_callback(MHD_SIZE_UNKNOWN, kLongestPiece, &on_room, held, &on_let_go);
  }

  struct Held {
    Running* running;
    std::shared_ptr<Stream> stream;
  };

  static ssize_t on_room(void* state, std::uint64_t, char* out, std::size_t room) {
    Stream& stream = *static_cast<Held*>(state)->stream;
    const std::lock_guard lock(stream.mutex);
    if (stream.waits.empty()) {
      if (stream.ended) return MHD_CONTENT_READER_END_OF_STREAM;
      MHD_suspend_connection(stream.connection);
      stream.suspended = true;
      return 0;
    }
    const std::size_t size = std::min(room, stream.waits.size());
    std::memcpy(out, stream.waits.data(), size);
    stream.waits.erase(0, size);
    return static_cast<ssize_t>(size);
  }

  static void on_let_go(void* state) {
    const std::unique_ptr<Held> held(static_cast<Held*>(state));
    const std::lock_guard lock(held->running->streams_mutex_);
    held->running->streams_.erase(held->stream);
  }

  void pump() {
    for (;;) {
      {
        const std::lock_guard lock(mutex_);
        if (stopping_) break;
      }
      cut_off_late_ones();
      for (const auto& stream : streams()) fill(*stream);
      std::this_thread::sleep_for(kPumpEvery);
    }
  }

  std::vector<std::shared_ptr<Stream>> streams() {
    const std::lock_guard lock(streams_mutex_);
    return {streams_.begin(), streams_.end()};
  }

  static void fill(Stream& stream) {
    const std::lock_guard lock(stream.mutex);
    if (!stream.suspended) return;
    std::optional<std::string> piece;
    try {
      piece = stream.more();
    } catch (const std::exception& error) {
      server::log_error(fmt::format("management: an answer broke off: {}", escaped(error.what())));
    }
    if (piece && piece->empty()) return;
    stream.ended = !piece;
    if (piece) stream.waits = std::move(*piece);
    wake(stream);
  }

  static void wake(Stream& stream) {
    if (std::exchange(stream.suspended, false)) MHD_resume_connection(stream.connection);
  }

  void end_streams() {
    {
      const std::lock_guard lock(streams_mutex_);
      closed_ = true;
    }
    for (const auto& stream : streams()) {
      const std::lock_guard lock(stream->mutex);
      stream->ended = true;
      wake(*stream);
    }
  }

  HttpSettings settings_;
  HttpCalls& calls_;
  MHD_Daemon* daemon_ = nullptr;
  std::atomic<std::size_t> in_bodies_{0};
  std::mutex callers_mutex_;
  std::list<std::shared_ptr<Caller>> callers_;
  std::mutex mutex_;  // of what follows
  std::condition_variable work_;
  std::deque<Waiting> waiting_;
  bool stopping_ = false;
  std::mutex streams_mutex_;
  std::set<std::shared_ptr<Stream>> streams_;
  bool closed_ = false;  // no more of them
  std::vector<std::thread> pool_;
  std::thread pump_;
};

HttpServer::HttpServer(std::unique_ptr<Running> running) : running_(std::move(running)) {}
HttpServer::~HttpServer() = default;

Result<std::unique_ptr<HttpServer>> HttpServer::start(HttpSettings settings, HttpCalls& calls) {
  auto running = std::make_unique<Running>(std::move(settings), calls);
  if (const Status started = running->start(); !started) return started.error();
  return std::unique_ptr<HttpServer>(new HttpServer(std::move(running)));
}

}  // namespace jembatan::admin
