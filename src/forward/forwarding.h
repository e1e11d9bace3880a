#pragma once
#include "forward/choice.h"

namespace jembatan::forward {

/// One request on its way to a group: which server is asked, again or next, and when to give up
/// (retransmission in the spirit of RFC 5080 §2.2.1). No sockets and no clock: events come in with the time,
/// the next step comes out.
class Forwarding {
 public:
  enum class Step : std::uint8_t {
    ask,        ///< send to server() as a new request
    ask_again,  ///< send the same octets to server() again
    give_up,    ///< every server was asked as often as the group allows
  };

  Step start(const Candidates& of, TimePoint now);
  /// The deadline has passed without an answer.
  Step on_silence(const Candidates& of, TimePoint now);

  /// The server could not be asked: the next one, if there is one.
  Step skip(const Candidates& of, TimePoint now) { return ask_next(of, now); }

  std::size_t server() const { return server_; }  ///< index into the group's servers
  TimePoint deadline() const { return deadline_; }

 private:
  Step ask_next(const Candidates& of, TimePoint now);
  Tried tried_;
  std::size_t server_ = 0;
  int attempts_ = 0;
  TimePoint deadline_;
};

}  // namespace jembatan::forward
