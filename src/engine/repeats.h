#pragma once
#include <deque>
#include <optional>
#include <vector>

#include "base/clock.h"
#include "base/ip.h"
#include "base/octets.h"
#include "base/slots.h"

namespace jembatan::engine {

/// Recognises requests that come again (RFC 5080 §2.2.2): same source, listener, Identifier, and the same
/// octets. Bounded: when it is full the oldest answered request is forgotten. Belongs to one thread.
class Repeats {
 public:
  struct Key {
    Endpoint source;
    std::uint16_t listener = 0;
    std::uint8_t identifier = 0;
    bool operator==(const Key&) const = default;
  };
  /// Names one request; stays recognisable after its place was given to another.
  struct Handle {
    std::uint32_t place = ~0U;
    std::uint32_t generation = 0;
  };
  enum class Seen : std::uint8_t {
    fresh,     ///< new; it is now being worked on
    waiting,   ///< known and still being worked on
    answered,  ///< known; `reply` is what was sent
    full,      ///< new, but every place is taken by a request being worked on
  };
  struct Found {
    Seen seen{};
    Handle handle;
    OctetView reply;
    std::optional<Ticket> replaced = {};  ///< of another request with this key, which nobody waits for now
  };

  Repeats(std::size_t capacity, Duration keep);

  /// What has the key of another request and other octets is a new one, in its place.
  ///   packet  header and attributes
  Found look(const Key& key, OctetView packet, TimePoint now);
  /// What the request waits under, so that it can be ended when another takes its place.
  void waits(Handle handle, Ticket ticket);
  /// Keeps the reply's octets. False if the request was superseded by another with the same Identifier.
  bool answer(Handle handle, OctetView reply, TimePoint now);
  /// There will be no reply: when the request comes again it is new.
  void forget(Handle handle);
  bool current(Handle handle) const { return entry(handle) != nullptr; }

 private:
  static constexpr std::uint32_t kNone = ~0U;
  enum class State : std::uint8_t { empty, waiting, answered };
  struct Entry {
    Key key;
    Octets packet;  // or its digest, if it is long
    State state = State::empty;
    std::uint32_t generation = 0;
    std::uint32_t chain = kNone;
    TimePoint until;
    Octets reply;
    std::optional<Ticket> ticket;
  };
  static bool is_of(const Entry& entry, OctetView packet);
  static void keep_packet(Entry& entry, OctetView packet);
  const Entry* entry(Handle handle) const;
  std::uint32_t& bucket_of(const Key& key);
  void unlink(std::uint32_t place);
  std::uint32_t free_place();

  Duration keep_;
  std::vector<Entry> entries_;
  std::vector<std::uint32_t> buckets_;
  std::vector<std::uint32_t> free_;
  std::deque<Handle> answered_;  // the oldest first; some are gone by now
};

}  // namespace jembatan::engine
