#pragma once
#include <map>
#include <set>
#include <string>
#include <utility>

#include "base/clock.h"
#include "wire/packet.h"

namespace jembatan::engine {

/// Knows requests again that are to be carried out once, by client and Request Authenticator: for a while,
/// and for each client no more than there is room for. Belongs to one thread.
class SeenRequests {
 public:
  enum class Seen : std::uint8_t {
    fresh,   ///< known from now on
    before,  ///< known
    full,    ///< there is no room to know it
  };
  ///   most   of one client
  ///   known  how long, at least; at most twice as long
  SeenRequests(std::size_t most, std::chrono::nanoseconds known) : most_(most), known_(known) {}

  Seen look(const std::string& client, const wire::Authenticator& authenticator, TimePoint now) {
    OfClient& of = clients_[client];
    if (now - of.since >= known_) {
      of.older = now - of.since >= 2 * known_ ? Set() : std::exchange(of.newer, {});
      of.newer.clear();
      of.since = now;
    }
    if (of.newer.contains(authenticator) || of.older.contains(authenticator)) return Seen::before;
    if (of.newer.size() + of.older.size() >= most_) return Seen::full;
    of.newer.insert(authenticator);
    return Seen::fresh;
  }

 private:
  using Set = std::set<wire::Authenticator>;
  struct OfClient {
    TimePoint since{};
    Set newer;
    Set older;
  };
  std::size_t most_;
  std::chrono::nanoseconds known_;
  std::map<std::string, OfClient> clients_;
};

}  // namespace jembatan::engine
