#pragma once
#include "forward/choice.h"

namespace jembatan::forward {

/// One request on its way to a group: which server is asked, again or next, and when to give up
/// (retransmission by RFC 5080 §2.2.1). No sockets and no clock: events come in with the time,
/// the next step comes out.
class Forwarding {
 public:
  enum class Step : std::uint8_t {
    ask,        ///< send to server() as a new request
    ask_again,  ///< send the same octets to server() again
    give_up,    ///< every server was asked as often as the group allows
  };

  /// When something happens, and the chance that tells how much longer or shorter than others it waits.
  struct Moment {
    TimePoint now;
    std::uint32_t chance = 0;  ///< all values equally likely
  };
  ///   until  it is given up then at the latest
  Step start(const Candidates& of, Asker asker, TimePoint until, Moment at);
  /// The deadline has passed without an answer.
  Step on_silence(const Candidates& of, Moment at);

  /// The server could not be asked: the next one, if there is one.
  Step skip(const Candidates& of, Moment at) { return ask_next(of, at); }

  std::size_t server() const { return server_; }  ///< index into the group's servers
  TimePoint deadline() const { return deadline_; }
  /// The last attempt waits no longer than the request may: its silence says little of the server.
  bool cut_short() const { return cut_short_; }

 private:
  Step ask_next(const Candidates& of, Moment at);
  int most_attempts(const plan::Group& group) const;
  void wait(const plan::Group& group, Moment at);
  Asker asker_;
  TimePoint until_;
  Tried tried_;
  std::size_t server_ = 0;
  int attempts_ = 0;
  TimePoint deadline_;
  bool cut_short_ = false;
};

}  // namespace jembatan::forward
