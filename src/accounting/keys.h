#pragma once
// What makes two Accounting-Requests the same.
#include "accounting/record.h"

namespace jembatan::accounting {

/// True for what belongs to one hop, and for what an Accounting-Request must not carry (RFC 2866 §5.13,
/// RFC 3579 §3.3): neither kept nor sent on, and in no digest.
bool is_left_out(wire::AttributeType type);

/// Of what a record says, without Acct-Delay-Time: at every hop the same, until somebody changes it.
///   attributes  encoded, without a header
Digest digest_of(OctetView attributes);

/// True for seconds since 1970 of a clock that is set: devices without one begin there.
bool is_by_a_clock(std::int64_t seconds);

/// True if it tells itself when it was (Event-Timestamp), by a clock that is set.
bool tells_when(const wire::PacketView& packet);

/// Of the event that a request tells of. Start, Stop, Accounting-On and -Off: the device, session, user,
/// port, station, address and the time, if it is told; whatever else a resend has differently. Others: all
/// that they say. Without a time of its own it is the sender's event: another client's devices may have the
/// same names and numbers.
///   digest  digest_of its attributes
Digest key_of(const wire::PacketView& packet, const Sender& sender, const Digest& digest);

/// Computes digest and key of an arrival by its attributes.
void rekey(Arrival& arrival);

/// What tells two requests with one key apart.
struct Sighting {
  WallTime event_time;
  std::uint64_t client = 0;  ///< stable_number of its name
  Digest digest{};
};
Sighting sighting_of(const Arrival& arrival);

/// True for two requests with one key that tell of one event: their times differ by a minute at most, and
/// they came from one client; or by two ways (over two hubs, say), and then they say the same: what one
/// client says never stands for what another says.
bool is_one_event(const Sighting& a, const Sighting& b);
inline constexpr std::chrono::seconds kResendWindow{60};

}  // namespace jembatan::accounting
