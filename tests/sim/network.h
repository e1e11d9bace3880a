#pragma once
// Many nodes in one process: real engines, a fake clock, links that lose, delay and repeat datagrams.
#include <deque>
#include <map>
#include <memory>
#include <queue>
#include <string>

#include "accounting/known_records.h"
#include "engine/delivery.h"
#include "engine/engine.h"
#include "support/fakes.h"

namespace jembatan::sim {

struct LinkQuality {
  double loss = 0;
  double twice = 0;  ///< chance that a datagram arrives twice
  std::chrono::milliseconds least{1};
  std::chrono::milliseconds most{5};
};

/// What becomes of the results of jobs (comparing, keeping).
struct JobQuality {
  double loss = 0;
  double twice = 0;
  std::chrono::milliseconds most{0};  ///< they come within this time
};

/// Keeps accounting in memory, with the store's rules: resends are known, what is to be sent on waits in a
/// queue.
class MemoryStore {
 public:
  accounting::Kept append(const accounting::Incoming& incoming);
  std::vector<accounting::Undelivered> undelivered(const std::string& group, std::int64_t behind,
                                                   std::size_t most) const;
  void delivered(const std::vector<accounting::Delivered>& records);
  std::vector<std::string> groups() const;
  std::size_t waiting() const;  ///< records, in all queues
  const std::vector<accounting::Record>& records() const { return records_; }

 private:
  std::vector<accounting::Record> records_;
  accounting::KnownRecords known_{1000};
  std::map<std::string, std::map<std::int64_t, accounting::Arrival>> queues_;  // by group
};

class Network;

/// Changes settings of a node's engines.
using Tune = std::function<void(engine::Settings&)>;

/// One node: two engines and a delivery, as workers and the deliverer drive them; the source port of a
/// request says which engine has it. Listens on ports 1812 and 1813 of its address; lanes leave from ports
/// 20000 (access; 25000 for the second engine) and 30000 (accounting) on.
class Node {
 public:
  Node(Network& network, std::string address, std::string_view plan, const Tune& tune);
  void receive(const Endpoint& from, const Endpoint& to, const Octets& datagram);
  void turn();  ///< carries on with whatever is due now
  std::optional<TimePoint> next_deadline();
  const IpAddress& address() const { return address_; }
  const engine::Counters& counters() const { return counters_; }
  const MemoryStore& store() const { return store_; }
  std::size_t in_flight() const { return workers_[0].engine->in_flight() + workers_[1].engine->in_flight(); }
  bool silent = false;  ///< takes nothing and says nothing
  JobQuality jobs;

 private:
  struct Worker {
    std::unique_ptr<engine::Engine> engine;
    engine::Actions actions;
    std::uint16_t lanes = 0;  ///< the port of its first lane
  };
  struct Result {
    TimePoint at;
    std::size_t worker = 0;
    Ticket ticket;
    engine::JobResult what;
  };
  void carry_out(Worker& worker);
  /// Does a job; its result comes later, or not at all.
  void do_job(std::size_t worker, const engine::Job& job);
  void bring_results(Worker& worker);
  void leave(const engine::Actions& actions, std::uint16_t lanes);
  /// As the deliverer does after each thing that happens.
  void deliver();
  Network& network_;
  IpAddress address_;
  support::FixedRandom random_;
  engine::Counters counters_;
  forward::HealthBoard board_;
  std::array<Worker, 2> workers_;
  engine::Delivery delivery_;
  engine::Actions actions_;  // of the delivery
  MemoryStore store_;
  std::vector<Result> results_;  // on their way
};

/// A device: sends a request until it is answered, as often as it likes.
class Device {
 public:
  Device(Network& network, Endpoint own, Endpoint server, Octets request, wire::SharedSecret secret);
  void receive(const Octets& datagram);
  void turn();
  std::optional<TimePoint> next_deadline() const;
  const std::optional<wire::Code>& answer() const { return answer_; }
  const Octets& reply() const { return reply_; }  ///< the last one
  int replies() const { return replies_; }
  Endpoint own;

 private:
  Network& network_;
  Endpoint server_;
  Octets request_;
  wire::SharedSecret secret_;
  std::optional<wire::Code> answer_;
  Octets reply_;
  int replies_ = 0;
  int sent_ = 0;
  TimePoint next_;
};

class Network {
 public:
  explicit Network(LinkQuality quality, unsigned seed) : quality_(quality), random_(seed) {}
  Node& add_node(const std::string& address, std::string_view plan, const Tune& tune = {});
  Device& add_device(const std::string& own, const std::string& server, Octets request,
                     const wire::SharedSecret& secret);
  void send(const Endpoint& from, const Endpoint& to, OctetView datagram);
  /// Runs until nothing is left to happen, or the time is over.
  void run(std::chrono::seconds at_most);
  Now now() const { return clock_.now(); }
  unsigned next_seed() { return random_.below(1U << 30U); }

 private:
  struct Flight {
    TimePoint at;
    std::uint64_t number = 0;
    Endpoint from;
    Endpoint to;
    Octets datagram;
    bool operator>(const Flight& other) const {
      return std::tie(at, number) > std::tie(other.at, other.number);
    }
  };
  void deliver(const Flight& flight);
  std::optional<TimePoint> next_event();

  LinkQuality quality_;
  support::FixedRandom random_;
  support::FakeClock clock_;
  std::uint64_t flights_ = 0;
  std::priority_queue<Flight, std::vector<Flight>, std::greater<>> flying_;
  std::map<IpAddress, std::unique_ptr<Node>> nodes_;
  std::map<Endpoint, std::unique_ptr<Device>> devices_;
};

}  // namespace jembatan::sim
