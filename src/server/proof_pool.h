#pragma once
#include <asio/thread_pool.hpp>
#include <atomic>
#include <functional>

#include "engine/actions.h"

namespace jembatan::server {

/// Compares passwords with their hashes off the network threads; bounded, so that a flood of sign-ins is
/// refused early instead of waiting for long.
class ProofPool {
 public:
  using Told = std::function<void(bool matches)>;  ///< called on the pool's thread

  explicit ProofPool(std::size_t threads) : pool_(threads) {}

  /// False if too many wait already.
  bool prove(engine::Job::Compare proof, Told told);
  void stop() { pool_.join(); }

 private:
  static constexpr std::size_t kMostWaiting = 1000;
  std::atomic<std::size_t> waiting_{0};
  asio::thread_pool pool_;
};

}  // namespace jembatan::server
