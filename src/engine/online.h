#pragma once
#include <deque>
#include <map>
#include <mutex>
#include <vector>

#include "accounting/store.h"
#include "base/text_hash.h"
#include "decide/elsewhere.h"

namespace jembatan::engine {

/// Who is online where: the open sessions of the accounting store, and who was let in and has not begun one
/// yet. One for the node; any thread. A user with very many sessions (a name that all guests share) costs no
/// more than others.
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
  using Place = std::uint64_t;                          // a number for it; 0: not told
  struct Entered {
    std::uint64_t number = 0;  // of the entry, growing
    WallTime at;
  };
  struct User {
    std::size_t sessions = 0;
    std::map<Place, std::size_t> open_at;           // sessions by place
    std::map<Place, std::vector<Entered>> entered;  // by place
    bool is_gone() const { return sessions == 0 && entered.empty(); }
  };
  using Users = ByText<User>;
  struct Open {
    Users::pointer user = nullptr;
    Place place = 0;
  };
  struct InOrder {
    std::string user;
    Place place = 0;
    Entered entry;
  };
  static std::size_t others(const User& user, Place place, WallTime now);
  void end(std::int64_t session);
  void forget(const InOrder& entry);
  void make_room(WallTime now);

  mutable std::mutex mutex_;
  Users users_;
  std::unordered_map<std::int64_t, Open> open_;
  std::deque<InOrder> entered_;
  std::uint64_t last_ = 0;
};

}  // namespace jembatan::engine
