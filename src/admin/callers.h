#pragma once
// Who calls the management API.
#include <map>
#include <mutex>

#include "base/secret.h"
#include "revision/archive.h"

namespace jembatan::admin {

/// The tokens in force, known in memory: asking never waits for the store. Wrong ones are counted by address,
/// told in the log now and then, and refused without a look at how they differ. Any thread.
class Callers {
 public:
  static constexpr std::string_view kOwn = "local";
  /// `own`: the token of the node's own file, an administrator called "local".
  explicit Callers(Secret own) : own_(std::move(own)) {}

  void know(std::vector<revision::KnownToken> tokens);

  /// What the Authorization header of a request (RFC 6750 §2.1) says.
  struct Judged {
    std::optional<revision::Author> author;
    bool too_often = false;  ///< no author, and not the first of that address in this minute by far
  };
  Judged judge(const std::string& authorization, const std::string& from, TimePoint now);
  /// False once the author's token was revoked.
  bool in_force(const revision::Author& author) const;
  std::uint64_t refused() const;

 private:
  struct Wrong {
    TimePoint since{};
    std::size_t count = 0;
    std::size_t told = 0;
  };
  std::optional<revision::Author> find(const std::string& authorization, const std::string& from) const;
  bool count_wrong(const std::string& from, TimePoint now);

  Secret own_;
  mutable std::mutex mutex_;
  std::vector<revision::KnownToken> tokens_;
  std::map<std::string, Wrong> wrong_;  // by address; bounded
  std::uint64_t refused_ = 0;
};

}  // namespace jembatan::admin
