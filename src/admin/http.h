#pragma once
// One request of the management API and its answer, as the calls see them: no library's types.
#include <cstdint>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace jembatan::admin {

struct Request {
  std::string method;                             ///< HEAD comes as GET
  std::string path;                               ///< without its query; any octets
  std::multimap<std::string, std::string> query;  ///< unescaped: any octets
  std::string authorization;                      ///< the header of this name; empty: none
  std::string from;                               ///< the caller's address
  std::uint64_t announced = 0;                    ///< Content-Length; 0: none
  std::string body;

  bool has(const std::string& key) const { return query.find(key) != query.end(); }
  /// The first value under a key; empty if there is none.
  std::string get(const std::string& key) const {
    const auto found = query.find(key);
    return found == query.end() ? std::string() : found->second;
  }
};

struct Response {
  int status = 200;
  std::string type = "text/plain";
  std::string body;
  std::vector<std::pair<std::string, std::string>> headers;
  /// If set, the answer comes in pieces: called again and again, from one thread, until it gives nothing. An
  /// empty piece: nothing new yet. What it holds is let go of when the connection ends.
  std::function<std::optional<std::string>()> more;
};

}  // namespace jembatan::admin
