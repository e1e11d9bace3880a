#pragma once
// What has served of one-time codes, for all nodes of one plan.
#include <functional>
#include <memory>

#include "identity/one_time_code.h"
#include "shared/shared_store.h"

namespace jembatan::shared {

/// One node's connection. Calls may block, for as long as the network lets them: interrupt() ends that. One
/// thread at a time. Errors of all of them: Errc::unreachable.
class SharedCodes {
 public:
  /// errors  those of SharedStore::open
  static Result<std::unique_ptr<SharedCodes>> open(const Wish& wish, const std::string& plan);
  virtual ~SharedCodes() = default;

  /// Whose page it is.
  struct Key {
    std::string factor;
    std::string user;  ///< comparable
  };
  /// Gives the page as all nodes know it to `change`, and keeps what that makes of it; no other node looks at
  /// it meanwhile. It may be called again with a newer page. A page that cannot be read is taken for an empty
  /// one.
  virtual Status with_page(const Key& key, const std::function<void(identity::CodePage& page)>& change) = 0;
  /// Ends a call that blocks, with an error. Any thread.
  virtual void interrupt() = 0;
};

}  // namespace jembatan::shared
