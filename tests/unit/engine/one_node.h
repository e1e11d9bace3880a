#pragma once
// One node without a network: datagrams in, what is to be done out.
#include <gtest/gtest.h>

#include "engine/engine.h"
#include "support/fakes.h"
#include "support/packets.h"
#include "wire/authenticator.h"

namespace jembatan::engine {

inline constexpr const char* kPlan = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
[[client]]
name = "old-deck"
address = "192.0.2.66"
secret = "laut"
message_authenticator = "if-present"
[[client]]
name = "dry-dock"
address = "192.0.2.77"
secret = "laut"
enabled = false
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
reply = { vlan = 40 }
[[user]]
name = "sari@reef.example"
password = { hash = "$6$jembatan$l9sAIiCcOmx6wr0FUMEmaety7rOcqVTnJFU1HU23aRnlWkp/Z6ajAvSu5OAgdt4j5OCr1/.HShCTyZvJ4oJYv1" }
[[user]]
name = "lama@reef.example"
password = { clear = "x" }
enabled = false
[[user]]
name = "budi@harbour.example"
password = { clear = "dermaga-2" }
[[realm]]
name = "reef.example"
handle = "here"
[[realm]]
name = "harbour.example"
handle = "here"
[[realm]]
name = "quiet.example"
handle = "ignore"
[[realm]]
name = "lagoon.example"
handle = "group:lagoon"
[[realm]]
name = "island.example"
handle = "group:strict-island"
strip = true
[realm_default]
missing = { assume = "harbour.example" }
[[group]]
name = "lagoon"
answer_within = "1s"
attempts = 2
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "danau"
[[group]]
name = "strict-island"
answer_within = "1s"
attempts = 1
when_silent = "refuse"
[[group.server]]
name = "island-1"
address = "198.51.100.2"
secret = "pulau"
message_authenticator = "if-present"
)";

class Handle : public testing::Test {
 protected:
  Handle() : engine(small(), random, counters) {
    engine.use(board.go_live(support::plan_of(kPlan), 1), {clock.now(), out});
  }

  static Settings small() {
    Settings out;
    out.listeners = {{forward::Purpose::access, {}}, {forward::Purpose::accounting, {}}};
    out.most_repeats = 256;
    out.most_pending = 64;
    out.client_percent = 100;  // all requests of most tests are of one client
    return out;
  }

  // Everything that a datagram leads to; what was done before is forgotten.
  const Actions& receive(const Octets& datagram, const char* from = "192.0.2.1:4000",
                         std::uint16_t listener = 0) {
    out.clear();
    engine.handle({listener, *Endpoint::parse(from, 0), {}, datagram}, {clock.now(), out});
    return out;
  }
  const Actions& account(const Octets& datagram) { return receive(datagram, "192.0.2.1:4000", 1); }
  OctetView reply() const { return out.replies.empty() ? OctetView{} : out.view(out.replies[0].packet); }
  wire::Code reply_code() const {
    return out.replies.empty() ? wire::Code{} : static_cast<wire::Code>(reply()[0]);
  }
  const Event& event() const { return out.events.at(0); }
  std::string outcome() const { return out.events.empty() ? "none" : std::string(name_of(event().outcome)); }

  // A server's answer to what was asked, signed with its secret.
  Octets answer_of(wire::Code code, std::string_view with_secret, const Octets& attributes = {},
                   bool sign = true) const {
    const auto request = wire::PacketView::parse(asked);
    wire::PacketBuilder packet(code, request->identifier(), request->authenticator());
    if (sign) (void)packet.add_message_authenticator();
    (void)packet.add_encoded(attributes);
    wire::sign_response(packet.finish(), request->authenticator(), support::secret(with_secret));
    return {packet.finish().begin(), packet.finish().end()};
  }
  void keep_asked() {
    ASSERT_EQ(out.asks.size(), 1U);
    const OctetView view = out.view(out.asks[0].packet);
    asked.assign(view.begin(), view.end());
  }
  const Actions& from_server(const Octets& datagram, const char* server = "198.51.100.1:1812") {
    out.clear();
    engine.on_reply(0, *Endpoint::parse(server, 0), datagram, {clock.now(), out});
    return out;
  }
  const Actions& wait(std::chrono::milliseconds time) {
    out.clear();
    engine.on_timer({clock.advance(time), out});
    return out;
  }
  // Until a server has certainly not answered the first attempt in 1 s, or the second.
  const Actions& silence(int attempt = 1) {
    return wait(std::chrono::milliseconds(attempt == 1 ? 1100 : 2200));
  }
  void expect_counters_to_add_up() const {
    std::uint64_t ended = 0;
    for (std::size_t i = 0; i < kOutcomes; ++i) ended += counters.count(static_cast<Outcome>(i));
    EXPECT_EQ(counters.received_count(), ended + engine.in_flight());
  }

  support::FakeClock clock;
  support::FixedRandom random{1};
  Counters counters;
  forward::HealthBoard board;
  Engine engine;
  Actions out;
  Octets asked;
};

inline const Job::Compare& compare_in(const Actions& out) {
  return std::get<Job::Compare>(out.jobs.at(0).work);
}
inline const Job::Record& record_in(const Actions& out) {
  return std::get<Job::Record>(out.jobs.at(0).work);
}

// Carries out what takes time: every password that waits is compared.
inline void compare_all(Engine& engine, Actions& out, Now now) {
  const auto jobs = std::exchange(out.jobs, {});
  out.clear();
  for (const Job& job : jobs) {
    const auto& compare = std::get<Job::Compare>(job.work);
    engine.on_done(job.ticket, Compared{compare.stored->matches(compare.typed.reveal())}, {now, out});
  }
}

}  // namespace jembatan::engine
