#pragma once
// HTTP for the management API: connections, bounds and deadlines. What is answered is the calls' business.
#include <chrono>
#include <memory>

#include "admin/http.h"
#include "base/ip.h"
#include "base/secret.h"

namespace jembatan::admin {

/// What a server asks. Exceptions end in a 500, never further.
class HttpCalls {
 public:
  virtual ~HttpCalls() = default;
  /// Looks at a request before its body is read. Must not block.
  ///   most_body  how many octets the body may have; to be set
  ///   returns    an answer that ends it here; nothing: the body is read, then answer() is called
  virtual std::optional<Response> judge(const Request& head, std::size_t& most_body) = 0;
  /// Answers a whole request, on one of the pool's threads.
  virtual Response answer(const Request& request) = 0;
};

struct HttpSettings {
  Endpoint at;
  std::string certificate;  ///< PEM; empty: no TLS
  Secret private_key;       ///< PEM
  std::size_t threads = 8;  ///< that answer calls
  std::size_t most_waiting = 64;
  std::size_t most_connections = 256;             ///< beyond, whoever has kept us waiting longest is cut off
  std::size_t most_of_address = 96;               ///< the same, for each caller's address
  std::size_t most_streams = 16;                  ///< answers in pieces at a time
  std::size_t most_in_bodies = 256U << 20U;       ///< octets of all bodies that are being read or answered
  std::chrono::milliseconds header_within{5000};  ///< the whole of it, from the connection on
  std::chrono::milliseconds body_within{120000};  ///< the whole of it
};

/// One listening address. Its own thread reads and writes and never waits for a call; the calls run on a
/// bounded pool.
class HttpServer {
 public:
  /// errors  Errc::conflict: the port is in use, with who has it where the system tells; Errc::io
  static Result<std::unique_ptr<HttpServer>> start(HttpSettings settings, HttpCalls& calls);
  ~HttpServer();
  HttpServer(const HttpServer&) = delete;
  HttpServer& operator=(const HttpServer&) = delete;

 private:
  class Running;
  explicit HttpServer(std::unique_ptr<Running> running);
  std::unique_ptr<Running> running_;
};

}  // namespace jembatan::admin
