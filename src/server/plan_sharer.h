#pragma once
#include <atomic>
#include <condition_variable>
#include <functional>
#include <mutex>
#include <thread>

#include "revision/wrap.h"
#include "server/event_log.h"
#include "shared/shared_plan.h"
#include "store/plan_store.h"

namespace jembatan::server {

/// The thread that makes this node's plan the one that its nodes share: it begins it or asks to be let in,
/// takes over what others change, and asks them about what is changed here.
class PlanSharer final : public revision::Agreement {
 public:
  struct Parts {
    shared::Wish wish;
    std::string plan;  ///< what it is called in the database
    revision::SealKey own;
    std::unique_ptr<store::PlanStore> store;                ///< a connection of its own, which asks nobody
    Random& random;                                         ///< of this thread alone
    std::function<void(const revision::SealKey&)> use_key;  ///< secrets of the plan are sealed with that now
    std::function<Status()> new_plan;                       ///< the store has a newer one
    std::function<void()> new_tokens;
  };
  explicit PlanSharer(Parts parts);
  ~PlanSharer() override;

  /// What the node has of a plan's key; none if its store is no member of one.
  static Result<std::optional<revision::SealKey>> kept_key(store::PlanStore& store,
                                                           const revision::SealKey& own);

  /// events  where it tells what becomes of it
  void start(EventLog& events);
  void stop();

  /// Waits a little until it is known whether the node has a part in the plan. Any thread.
  void settle();
  /// Any thread.
  Result<std::uint64_t> agree(std::uint64_t behind, const revision::SharedChange& change) override;
  /// Lets a node in that asks with a key of that fingerprint. Any thread.
  ///   errors  Errc::not_found: none asks so; those of agree()
  Status admit(const std::string& node, const std::string& fingerprint, const std::string& by);
  /// Why the plan here is not the shared one, or cannot be changed, and since when; empty: it is. Any thread.
  std::string problem() const;
  /// Whether this node has to do what one of the nodes does for all.
  bool leads() const { return leads_; }

 private:
  void run();
  Status turn();
  Status enter();
  Status begin();
  Status ask_in(const std::string& origin);
  Status follow();
  void trouble(const Error& why);
  void well();
  bool stopping() const;
  void tell(engine::Weight weight, std::string text);
  void have_key(revision::SealKey key, const std::string& origin);
  /// What a change is sealed under, in the plan of that beginning.
  std::string mark(const std::string& origin, std::uint64_t number) const;
  shared::SealedChange sealed(const revision::SealKey& key, const std::string& origin, std::uint64_t number,
                              const revision::SharedChange& change, Random& random) const;
  /// A member's key and the plan's beginning.
  Result<std::pair<revision::SealKey, std::string>> part();
  template <class Call>
  auto ask(Call call) -> decltype(call(std::declval<shared::SharedPlan&>()));

  Parts parts_;
  EventLog* events_ = nullptr;
  revision::KeyPair pair_;
  mutable std::mutex mutex_;
  std::condition_variable changed_;
  bool stop_ = false;
  bool settled_ = false;  // it is known whether the node has a part
  std::string problem_;
  std::optional<WallTime> problem_since_;
  std::optional<revision::SealKey> key_;       // of the plan
  std::string origin_;                         // of the plan that the key is of
  std::unique_ptr<shared::SharedPlan> there_;  // the thread's; changed under the mutex
  std::atomic<bool> leads_{false};
  std::mutex asking_mutex_;
  std::unique_ptr<shared::SharedPlan> asking_;  // changed under both
  std::thread thread_;
};

}  // namespace jembatan::server
