#include "cli/load.h"

#include <fmt/format.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>
#include <deque>

#include "host/socket_address.h"
#include "wire/authenticator.h"

namespace jembatan::cli {
namespace {

using Clock = std::chrono::steady_clock;
using Time = Clock::time_point;

constexpr std::size_t kIdentifiers = 256;
constexpr int kAtATime = 64;

/// A source port. Belongs to one kind of port at the server.
class Port {
 public:
  static Result<std::unique_ptr<Port>> open(const ExchangeWish& wish) {
    const int family = wish.to.address.family == Family::v4 ? AF_INET : AF_INET6;
    const int fd = ::socket(family, SOCK_DGRAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
    std::unique_ptr<Port> out(new Port(fd));
    const auto problem = [&] { return fail(Errc::io, fmt::format("socket: {}", std::strerror(errno))); };
    if (fd < 0) return problem();
    const int room = 4 << 20;
    ::setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &room, sizeof(room));
    if (const auto from = IpAddress::parse(wish.from)) {
      host::SocketAddress own({*from, 0});
      if (::bind(fd, own.generic(), own.length) != 0) return problem();
    }
    host::SocketAddress to(wish.to);
    if (::connect(fd, to.generic(), to.length) != 0) return problem();
    return out;
  }
  ~Port() {
    if (fd_ >= 0) ::close(fd_);
  }
  Port(const Port&) = delete;
  Port& operator=(const Port&) = delete;

  struct Waiting {
    bool used = false;
    Octets request;
    const Question* question = nullptr;
    Time due;
    Time until;
    bool forged = false;  // a reply came that is not genuine
  };
  int fd() const { return fd_; }
  bool full() const { return used == kIdentifiers; }
  std::array<Waiting, kIdentifiers> waiting{};
  std::size_t used = 0;
  std::uint8_t next = 0;

 private:
  explicit Port(int fd) : fd_(fd) {}
  int fd_;
};

class Load {
 public:
  Load(const LoadWish& wish, const std::vector<Question>& sign_ins, const std::vector<Question>& records)
      : wish_(wish), sign_ins_(sign_ins), records_(records) {}

  Result<LoadResult> run(const std::function<void(const LoadResult&)>& progress) {
    if (const Status opened = open(); !opened) return opened.error();
    began_ = Clock::now();
    const Time end = began_ + wish_.lasts;
    Time told = began_;
    for (bool all_taken = false; !all_taken || waiting_ > 0 || !held_.empty();) {
      const Time now = Clock::now();
      take_due(std::min(now, end), now < end);
      all_taken = now >= end;
      send_held(now);
      wait_for_replies(now, end);
      read_replies();
      expire(Clock::now());
      if (now - told >= std::chrono::seconds(1)) {
        told = now;
        progress(result_);
      }
    }
    return std::move(result_);
  }

 private:
  Status open() {
    for (std::size_t i = 0; i < wish_.sockets; ++i) {
      auto access = Port::open(sign_ins_.front().wish());
      if (!access) return access.error();
      access_.push_back(std::move(*access));
      if (records_.empty()) continue;
      auto accounting = Port::open(records_.front().wish());
      if (!accounting) return accounting.error();
      accounting_.push_back(std::move(*accounting));
    }
    return {};
  }

  // Requests that are due until then: by the clock (all of them, however late this is called: a client that
  // was held up asks no less), or while there is room in the window.
  void take_due(Time until, bool going_on) {
    if (wish_.rate <= 0) {
      while (going_on && waiting_ + held_.size() < wish_.window) held_.push_back(pick(until));
      return;
    }
    const auto due_at = [&](std::uint64_t number) {
      return began_ + std::chrono::duration_cast<Clock::duration>(
                          std::chrono::duration<double>(static_cast<double>(number) / wish_.rate));
    };
    for (; due_at(due_) < until; ++due_) held_.push_back(pick(due_at(due_)));
  }

  struct Held {
    const Question* question;
    Time due;
    std::uint64_t session = 0;
  };

  // Sign-ins in turn; every so many a record.
  Held pick(Time due) {
    owed_ += records_.empty() ? 0 : wish_.accounting_percent;
    if (owed_ >= 100) {
      owed_ -= 100;
      const std::uint64_t number = next_record_++;
      return {&records_[number % records_.size()], due, number / records_.size()};
    }
    return {&sign_ins_[next_sign_in_++ % sign_ins_.size()], due};
  }

  void send_held(Time now) {
    while (!held_.empty()) {
      const Held one = held_.front();
      Port* port = free_port(one.question->is_accounting() ? accounting_ : access_);
      if (port == nullptr) {
        if (!blocked_) result_.held_back += held_.size();
        blocked_ = true;
        return;
      }
      blocked_ = false;
      held_.pop_front();
      send(*port, one, now);
    }
  }

  static Port* free_port(std::vector<std::unique_ptr<Port>>& ports) {
    const auto least = std::min_element(ports.begin(), ports.end(),
                                        [](const auto& a, const auto& b) { return a->used < b->used; });
    return (*least)->full() ? nullptr : least->get();
  }

  void send(Port& port, const Held& what, Time now) {
    while (port.waiting[port.next].used) ++port.next;
    const std::uint8_t identifier = port.next++;
    LoadSecond& second = second_of(what.due);
    ++second.sent;
    auto packet = what.question->packet(Question::Numbered{identifier, what.session});
    if (!packet) {
      ++second.outcomes["not sent: " + packet.error().text];
      return;
    }
    Port::Waiting& waiting = port.waiting[identifier];
    waiting = {true, std::move(packet->request), what.question, what.due, now + wish_.wait, false};
    ++port.used;
    ++waiting_;
    (void)::send(port.fd(), waiting.request.data(), waiting.request.size(), 0);
  }

  void wait_for_replies(Time now, Time end) const {
    std::vector<pollfd> all;
    for (const auto* ports : {&access_, &accounting_})
      for (const auto& port : *ports) all.push_back({port->fd(), POLLIN, 0});
    int milliseconds = now < end && wish_.rate > 0 ? 1 : 10;
    if (!held_.empty()) milliseconds = std::min(milliseconds, 1);
    (void)::poll(all.data(), all.size(), milliseconds);
  }

  void read_replies() {
    for (auto* ports : {&access_, &accounting_})
      for (auto& port : *ports)
        for (int i = 0; i < kAtATime * 4; ++i)
          if (!read_one(*port)) break;
  }

  bool read_one(Port& port) {
    std::array<std::uint8_t, wire::kMaxPacket> buffer;
    const ssize_t size = ::recv(port.fd(), buffer.data(), buffer.size(), 0);
    if (size < 0) return errno == ECONNREFUSED;
    const auto reply = wire::PacketView::parse({buffer.data(), static_cast<std::size_t>(size)});
    if (!reply) return true;
    Port::Waiting& waiting = port.waiting[reply->identifier()];
    if (!waiting.used) return true;
    if (waiting.question->is_genuine(*reply, waiting.request)) {
      end(port, waiting, wire::name_of(reply->code()));
    } else {
      waiting.forged = true;
    }
    return true;
  }

  void end(Port& port, Port::Waiting& waiting, const std::string& outcome) {
    LoadSecond& second = second_of(waiting.due);
    ++second.outcomes[outcome];
    const auto took =
        std::chrono::duration_cast<std::chrono::microseconds>(Clock::now() - waiting.due).count();
    if (outcome != "no answer" && outcome != "not genuine")
      second.took.push_back(static_cast<std::uint32_t>(std::min<std::int64_t>(took, ~0U)));
    waiting.used = false;
    --port.used;
    --waiting_;
  }

  void expire(Time now) {
    if (now < next_look_) return;
    next_look_ = now + std::chrono::milliseconds(5);
    for (auto* ports : {&access_, &accounting_})
      for (auto& port : *ports)
        for (Port::Waiting& waiting : port->waiting)
          if (waiting.used && waiting.until <= now)
            end(*port, waiting, waiting.forged ? "not genuine" : "no answer");
  }

  LoadSecond& second_of(Time due) {
    const auto place =
        static_cast<std::size_t>(std::chrono::duration_cast<std::chrono::seconds>(due - began_).count());
    if (result_.seconds.size() <= place) result_.seconds.resize(place + 1);
    return result_.seconds[place];
  }

  const LoadWish& wish_;
  const std::vector<Question>& sign_ins_;
  const std::vector<Question>& records_;
  std::vector<std::unique_ptr<Port>> access_;
  std::vector<std::unique_ptr<Port>> accounting_;
  std::deque<Held> held_;  // due, and not sent yet
  Time began_;
  Time next_look_;
  std::uint64_t due_ = 0;
  std::size_t next_sign_in_ = 0;
  std::size_t next_record_ = 0;
  unsigned owed_ = 0;  // hundredths of a record
  std::size_t waiting_ = 0;
  bool blocked_ = false;
  LoadResult result_;
};

}  // namespace

Result<LoadResult> run_load(const LoadWish& wish, const std::vector<Question>& sign_ins,
                            const std::vector<Question>& records,
                            const std::function<void(const LoadResult&)>& progress) {
  return Load(wish, sign_ins, records).run(progress);
}

LoadSum sum_of(const LoadResult& result) {
  LoadSum out;
  for (const LoadSecond& second : result.seconds) {
    out.requests += second.sent;
    for (const auto& [name, count] : second.outcomes) out.outcomes[name] += count;
    out.took.insert(out.took.end(), second.took.begin(), second.took.end());
  }
  std::sort(out.took.begin(), out.took.end());
  return out;
}

std::uint32_t LoadSum::within(double part) const {
  if (took.empty()) return 0;
  const auto place = static_cast<std::size_t>(part * static_cast<double>(took.size()));
  return took[std::min(place, took.size() - 1)];
}

}  // namespace jembatan::cli
