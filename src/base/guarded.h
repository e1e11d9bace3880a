#pragma once
#include <mutex>

namespace jembatan {

/// A lock that owns its data: nobody reaches it but through lock(). For the rare state that threads share.
template <class T>
class Guarded {
 public:
  /// The data, and its lock for as long as this lives.
  class Held {
   public:
    explicit Held(Guarded& owner) : lock_(owner.mutex_), object_(&owner.object_) {}
    T* operator->() { return object_; }
    T& operator*() { return *object_; }

   private:
    std::unique_lock<std::mutex> lock_;
    T* object_;
  };
  Held lock() { return Held(*this); }

 private:
  std::mutex mutex_;
  T object_;
};

}  // namespace jembatan
