#pragma once
#include <cstdint>
#include <deque>
#include <vector>

namespace jembatan {

/// Names one use of one slot: a ticket from an earlier use is recognised and finds nothing.
struct Ticket {
  std::uint32_t index = ~0U;
  std::uint32_t generation = 0;
  bool operator==(const Ticket&) const = default;
};

/// A bounded pool whose objects keep their buffers from use to use. Belongs to one thread. A pointer from
/// get() lives until the slot is released.
template <class T>
class Slots {
 public:
  explicit Slots(std::size_t most) : most_(most) {}

  /// A slot for the caller; index ~0 if all are taken.
  Ticket take() {
    if (free_.empty()) {
      if (all_.size() == most_) return {};
      free_.push_back(static_cast<std::uint32_t>(all_.size()));
      all_.emplace_back();
    }
    const std::uint32_t index = free_.back();
    free_.pop_back();
    all_[index].taken = true;
    return {index, all_[index].generation};
  }

  T* get(Ticket ticket) {
    if (ticket.index >= all_.size()) return nullptr;
    Slot& slot = all_[ticket.index];
    return slot.taken && slot.generation == ticket.generation ? &slot.object : nullptr;
  }

  Ticket ticket_at(std::uint32_t index) const { return {index, all_[index].generation}; }

  void release(Ticket ticket) {
    if (get(ticket) == nullptr) return;
    all_[ticket.index].taken = false;
    ++all_[ticket.index].generation;
    free_.push_back(ticket.index);
  }

  /// The same slot under a new ticket: the old one finds nothing from now on.
  Ticket renew(Ticket ticket) {
    if (get(ticket) == nullptr) return {};
    return {ticket.index, ++all_[ticket.index].generation};
  }

  /// Calls `visit` with the ticket of each slot that is taken; it may release that one.
  template <class Visit>
  void each(Visit visit) {
    for (std::uint32_t i = 0; i < all_.size(); ++i)
      if (all_[i].taken) visit(ticket_at(i));
  }

  std::size_t taken() const { return all_.size() - free_.size(); }

 private:
  struct Slot {
    T object;
    std::uint32_t generation = 0;
    bool taken = false;
  };
  std::size_t most_;
  std::deque<Slot> all_;
  std::vector<std::uint32_t> free_;
};

}  // namespace jembatan
