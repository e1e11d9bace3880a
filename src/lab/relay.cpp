#include "lab/relay.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <sys/epoll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <fstream>
#include <list>
#include <map>
#include <nlohmann/json.hpp>
#include <queue>

#include "document/parse.h"
#include "host/node_file.h"
#include "host/process.h"
#include "host/socket_address.h"
#include "host/system.h"
#include "lab/fault.h"
#include "lab/hosts.h"
#include "lab/lab.h"
#include "plan/read.h"

namespace jembatan::lab {
namespace {

namespace fs = std::filesystem;
using Clock = std::chrono::steady_clock;

constexpr std::size_t kMostFlows = 4096;
constexpr std::size_t kMostLate = 65536;
constexpr int kLongest = 1000;  // milliseconds, to wait for something

// SIGHUP: other faults are set. To look at the file all the time would cost more than all the rest.
volatile std::sig_atomic_t g_other_faults = 1;
void note_other_faults(int) {
  g_other_faults = 1;
}

class Descriptor {
 public:
  explicit Descriptor(int fd = -1) : fd_(fd) {}
  Descriptor(Descriptor&& other) noexcept : fd_(std::exchange(other.fd_, -1)) {}
  Descriptor& operator=(Descriptor&&) = delete;
  ~Descriptor() {
    if (fd_ >= 0) ::close(fd_);
  }
  int fd() const { return fd_; }

 private:
  int fd_;
};

///   where  a namespace; empty: this one
Result<int> udp_socket(const Endpoint& at, const std::string& where) {
  const InNamespace there(where);
  const int fd = ::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
  if (fd < 0) return fail(Errc::io, fmt::format("socket: {}", std::strerror(errno)));
  const int room = 4 << 20;
  ::setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &room, sizeof(room));
  host::SocketAddress address(at);
  if (::bind(fd, address.generic(), address.length) == 0) return fd;
  const Error problem = fail(Errc::conflict, fmt::format("{}: {}", at.text(), std::strerror(errno)));
  ::close(fd);
  return problem;
}

/// One port of one node.
struct Front {
  std::string node;
  Endpoint inner;
  Descriptor socket;
};

/// One asker at one front: its own socket towards the node, under its own address.
struct Flow {
  std::size_t front = 0;
  Endpoint asker;
  Descriptor socket;
};

class Relay {
 public:
  explicit Relay(fs::path lab) : lab_(std::move(lab)), epoll_(::epoll_create1(EPOLL_CLOEXEC)) {}

  Status open() {
    for (const std::string& name : node_names()) {
      document::Problems problems;
      const auto settings = host::read_node_file(lab_ / name / "node.toml", problems);
      if (!settings) return fail(Errc::malformed, problems.text());
      for (const auto* listens : {&settings->access, &settings->accounting, &settings->authorization}) {
        for (const Endpoint& inner : *listens) {
          const Endpoint outer = in_front(inner);
          if (outer == inner) continue;
          const std::string where = namespace_of(name);
          if (const Status opened = open_front(name, inner, outer, ""); !opened) return opened;
          if (where.empty()) continue;
          const Endpoint on_water{on_the_water(outer.address), outer.port};
          if (const Status opened = open_front(name, inner, on_water, where); !opened) return opened;
        }
      }
      const fs::path plan = settings->plan_folder.empty() ? lab_ / name / "plan" : settings->plan_folder;
      if (auto read = plan::read_folder(plan, problems)) plans_[name] = read;
    }
    for (std::size_t i = 0; i < fronts_.size(); ++i) watch(fronts_[i].socket.fd(), i);
    return {};
  }

  [[noreturn]] void run() {
    while (true) {
      take_up_faults();
      std::array<epoll_event, 64> ready{};
      const int count = ::epoll_wait(epoll_.fd(), ready.data(), ready.size(), wait_time());
      for (int i = 0; i < count; ++i) {
        const std::uint64_t which = ready[static_cast<std::size_t>(i)].data.u64;
        if (which < fronts_.size()) {
          from_askers(which);
        } else {
          from_node(which);
        }
      }
      send_late();
    }
  }

 private:
  /// Where a datagram goes: by a front to an asker, or by a flow (0: none) to its node.
  struct Route {
    std::size_t front = 0;
    Endpoint to;
    std::uint64_t flow = 0;
  };
  struct Late {
    Clock::time_point at;
    std::uint64_t number = 0;
    Route route;
    Octets datagram;
    bool operator>(const Late& other) const {
      return std::tie(at, number) > std::tie(other.at, other.number);
    }
  };

  Status open_front(const std::string& node, const Endpoint& inner, const Endpoint& at,
                    const std::string& where) {
    const auto socket = udp_socket(at, where);
    if (!socket) return socket.error();
    fronts_.push_back({node, inner, Descriptor(*socket)});
    return {};
  }

  void watch(int fd, std::uint64_t which) const {
    epoll_event event{};
    event.events = EPOLLIN;
    event.data.u64 = which;
    ::epoll_ctl(epoll_.fd(), EPOLL_CTL_ADD, fd, &event);
  }

  int wait_time() const {
    if (late_.empty()) return kLongest;
    const auto left = std::chrono::ceil<std::chrono::milliseconds>(late_.top().at - Clock::now()).count();
    return static_cast<int>(std::clamp<std::int64_t>(left, 0, kLongest));
  }

  void take_up_faults() {
    if (g_other_faults == 0) return;
    g_other_faults = 0;
    const auto text = document::read_file((lab_ / kFaultsFile).string());
    if (!text) return;
    faults_.clear();
    const auto body = nlohmann::json::parse(*text, nullptr, false);
    if (body.is_object()) {
      for (const auto& [node, fault] : body.items()) {
        if (!fault.is_string()) continue;
        if (const auto parsed = parse_fault(fault.get<std::string>())) faults_[node] = *parsed;
      }
    }
    std::ofstream(lab_ / kTakenUpFile, std::ios::trunc) << *text;
  }

  const Fault& fault_of(const std::string& node) const {
    static const Fault kNone;
    const auto found = faults_.find(node);
    return found == faults_.end() ? kNone : found->second;
  }

  const wire::SharedSecret* secret_of(const Front& front, const Endpoint& asker) const {
    const auto plan = plans_.find(front.node);
    if (plan == plans_.end()) return nullptr;
    const plan::Client* client = plan->second->client_at(ashore(asker.address));
    return client == nullptr ? nullptr : &client->secret;
  }

  // The flow of an asker; the one that was quiet longest makes room.
  std::optional<std::uint64_t> flow_of(std::size_t front, const Endpoint& asker) {
    const auto key = std::pair(front, asker);
    if (const auto known = by_asker_.find(key); known != by_asker_.end()) {
      order_.splice(order_.end(), order_, known->second.second);
      return known->second.first;
    }
    if (flows_.size() == kMostFlows) {
      const std::uint64_t oldest = order_.front();
      const Flow& gone = flows_.at(oldest);
      by_asker_.erase(std::pair(gone.front, gone.asker));
      flows_.erase(oldest);
      order_.pop_front();
    }
    auto socket = udp_socket({ashore(asker.address), 0}, namespace_of(fronts_[front].node));
    if (!socket) return std::nullopt;
    const std::uint64_t number = next_flow_++;
    watch(*socket, number);
    order_.push_back(number);
    by_asker_[key] = {number, std::prev(order_.end())};
    flows_.emplace(number, Flow{front, asker, Descriptor(*socket)});
    return number;
  }

  void from_askers(std::size_t place) {
    const Front& front = fronts_[place];
    std::array<std::uint8_t, 65536> buffer;
    while (true) {
      sockaddr_storage from{};
      socklen_t length = sizeof(from);
      const ssize_t size = ::recvfrom(front.socket.fd(), buffer.data(), buffer.size(), 0,
                                      reinterpret_cast<sockaddr*>(&from), &length);
      if (size < 0) return;
      const Endpoint asker = host::endpoint_of(from);
      const auto flow = flow_of(place, asker);
      if (!flow) continue;
      const OctetView datagram(buffer.data(), static_cast<std::size_t>(size));
      for (Passed& one :
           pass(fault_of(front.node), Direction::to_node, datagram, secret_of(front, asker), random_)) {
        send(one, one.back ? Route{place, asker} : Route{place, front.inner, *flow});
      }
    }
  }

  void from_node(std::uint64_t number) {
    const auto flow = flows_.find(number);
    if (flow == flows_.end()) return;
    const Front& front = fronts_[flow->second.front];
    std::array<std::uint8_t, 65536> buffer;
    while (true) {
      const ssize_t size = ::recv(flow->second.socket.fd(), buffer.data(), buffer.size(), 0);
      if (size < 0) return;  // also: nobody listens there
      const OctetView datagram(buffer.data(), static_cast<std::size_t>(size));
      for (Passed& one : pass(fault_of(front.node), Direction::to_asker, datagram, nullptr, random_))
        send(one, {flow->second.front, flow->second.asker});
    }
  }

  void send(Passed& what, const Route& route) {
    if (what.after == Duration{0}) return send_now(route, what.datagram);
    if (late_.size() < kMostLate)
      late_.push({Clock::now() + what.after, ++sent_late_, route, std::move(what.datagram)});
  }

  void send_now(const Route& route, const Octets& datagram) const {
    const auto flow = flows_.find(route.flow);
    if (route.flow != 0 && flow == flows_.end()) return;  // its asker was quiet for long
    const int fd = route.flow == 0 ? fronts_[route.front].socket.fd() : flow->second.socket.fd();
    host::SocketAddress to(route.to);
    (void)::sendto(fd, datagram.data(), datagram.size(), 0, to.generic(), to.length);
  }

  void send_late() {
    while (!late_.empty() && late_.top().at <= Clock::now()) {
      send_now(late_.top().route, late_.top().datagram);
      late_.pop();
    }
  }

  fs::path lab_;
  Descriptor epoll_;
  std::vector<Front> fronts_;
  std::map<std::string, plan::PlanPtr> plans_;
  std::map<std::string, Fault> faults_;
  std::map<std::uint64_t, Flow> flows_;
  std::list<std::uint64_t> order_;  // the one that was quiet longest first
  std::map<std::pair<std::size_t, Endpoint>, std::pair<std::uint64_t, std::list<std::uint64_t>::iterator>>
      by_asker_;
  std::uint64_t next_flow_ = 1000;
  std::uint64_t sent_late_ = 0;
  std::priority_queue<Late, std::vector<Late>, std::greater<>> late_;
  host::SystemRandom random_;
};

}  // namespace

Status run_relay(const fs::path& lab) {
  if (const Status files = host::allow_open_files(kMostFlows + 64); !files) return files;
  std::signal(SIGHUP, note_other_faults);
  Relay relay(lab);
  if (const Status opened = relay.open(); !opened) return opened;
  relay.run();
}

}  // namespace jembatan::lab
