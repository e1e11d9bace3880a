#pragma once
#include <memory>

#include "base/secret.h"
#include "server/server.h"

namespace jembatan::admin {

/// The management API: HTTP and JSON on a loopback address, opened by a bearer token (RFC 6750); errors are
/// problem details (RFC 9457). Described in docs/openapi.yaml.
class Api {
 public:
  /// Listens on the node's management address and answers on threads of its own.
  ///   errors  Errc::conflict: the address is in use
  static Result<std::unique_ptr<Api>> start(server::Server& server, Secret token);
  ~Api();
  Api(const Api&) = delete;
  Api& operator=(const Api&) = delete;

  /// "GET /v1/node", …: every call that the API has.
  static std::vector<std::string> calls();

 private:
  class Routes;
  explicit Api(std::unique_ptr<Routes> routes);
  std::unique_ptr<Routes> routes_;
};

}  // namespace jembatan::admin
