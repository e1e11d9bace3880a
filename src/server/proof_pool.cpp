#include "server/proof_pool.h"

#include <asio/post.hpp>

namespace jembatan::server {

bool ProofPool::prove(engine::Job::Compare proof, Told told) {
  if (waiting_.load() >= kMostWaiting) return false;
  ++waiting_;
  asio::post(pool_, [this, work = std::move(proof), told = std::move(told)] {
    --waiting_;
    told(work.stored->matches(work.typed.reveal()));
  });
  return true;
}

}  // namespace jembatan::server
