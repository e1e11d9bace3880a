// The floor for sign-ins by a directory: the same binds made by libldap alone, at an even rate.
//   jembatan_bind URL NAME PASSWORD RATE SECONDS CONNECTIONS
// Prints: binds, median and 99th percentile in microseconds, counted from when each was due.
#include <ldap.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <mutex>
#include <thread>
#include <vector>

namespace {

using Clock = std::chrono::steady_clock;

struct Wish {
  const char* url;
  const char* name;
  char* password;
  double rate;
  double seconds;
};

class Binding {
 public:
  explicit Binding(const Wish& wish) : wish_(wish), count_(static_cast<long>(wish.rate * wish.seconds)) {}

  void run() {
    ldap* handle = nullptr;
    const int version = LDAP_VERSION3;
    if (ldap_initialize(&handle, wish_.url) != LDAP_SUCCESS) std::exit(1);
    ldap_set_option(handle, LDAP_OPT_PROTOCOL_VERSION, &version);
    berval password{std::char_traits<char>::length(wish_.password), wish_.password};
    std::vector<double> took;
    for (long i = next_++; i < count_; i = next_++) {
      const auto due = start_ + std::chrono::duration_cast<Clock::duration>(
                                    std::chrono::duration<double>(static_cast<double>(i) / wish_.rate));
      std::this_thread::sleep_until(due);
      if (ldap_sasl_bind_s(handle, wish_.name, LDAP_SASL_SIMPLE, &password, nullptr, nullptr, nullptr) !=
          LDAP_SUCCESS)
        std::exit(1);
      took.push_back(std::chrono::duration<double, std::micro>(Clock::now() - due).count());
    }
    ldap_unbind_ext_s(handle, nullptr, nullptr);
    const std::lock_guard lock(mutex_);
    took_.insert(took_.end(), took.begin(), took.end());
  }

  void print() {
    std::sort(took_.begin(), took_.end());
    std::printf("%zu %.0f %.0f\n", took_.size(), took_[took_.size() / 2], took_[took_.size() * 99 / 100]);
  }

 private:
  Wish wish_;
  long count_;
  Clock::time_point start_ = Clock::now() + std::chrono::milliseconds(200);
  std::atomic<long> next_{0};
  std::mutex mutex_;
  std::vector<double> took_;
};

}  // namespace

int main(int count, char** words) {
  if (count != 7) return 2;
  Binding binding({words[1], words[2], words[3], std::atof(words[4]), std::atof(words[5])});
  std::vector<std::thread> threads;
  for (int i = 0; i < std::atoi(words[6]); ++i) threads.emplace_back([&] { binding.run(); });
  for (std::thread& thread : threads) thread.join();
  binding.print();
}
