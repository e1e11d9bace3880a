#pragma once
#include <deque>
#include <memory>
#include <mutex>
#include <vector>

#include "accounting/store.h"
#include "base/text_hash.h"
#include "decide/elsewhere.h"

namespace jembatan::engine {

/// Who is online where: the open sessions of the accounting store, and who was let in and has not begun one
/// yet. One for the node; any thread.
class Online final : public decide::Elsewhere {
 public:
  /// For so long one who was let in counts without a session.
  static constexpr std::chrono::seconds kBeginsWithin{60};

  /// A session as it is now: open, or ended.
  void follow(const accounting::Session& session);

  std::size_t count(std::string_view user, std::string_view place, WallTime now) const override;
  std::size_t enter(std::string_view user, std::string_view place, WallTime now) override;
  void leave(std::string_view user, std::string_view place) override;
  /// Users that are online, or about to be.
  std::size_t users() const;

 private:
  static constexpr std::size_t kMostEntered = 200'000;  // without a session; the oldest are forgotten first
  struct At {
    std::string place;
    std::int64_t session = 0;  // 0: was let in
    WallTime entered;
  };
  using Places = std::vector<At>;
  struct Entered {
    std::string user;
    std::string place;
    WallTime at;
  };
  static std::size_t others(const Places& places, std::string_view place, WallTime now);
  void forget(const std::string& user, std::string_view place, WallTime entered);
  void make_room(WallTime now);

  mutable std::mutex mutex_;
  ByText<Places> users_;
  std::deque<Entered> entered_;  // in their order
};

}  // namespace jembatan::engine
