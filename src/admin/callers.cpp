#include "admin/callers.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "revision/seal.h"
#include "server/log.h"

namespace jembatan::admin {
namespace {

constexpr std::string_view kScheme = "Bearer ";
constexpr std::size_t kMostAddresses = 1000;
constexpr std::size_t kOften = 20;
constexpr std::chrono::seconds kWindow{60};

}  // namespace

void Callers::know(std::vector<revision::KnownToken> tokens) {
  const std::lock_guard lock(mutex_);
  tokens_ = std::move(tokens);
}

std::optional<revision::Author> Callers::find(const std::string& authorization,
                                              const std::string& from) const {
  if (!authorization.starts_with(kScheme)) return std::nullopt;
  const OctetView token = view_of(std::string_view(authorization).substr(kScheme.size()));
  if (equal_in_constant_time(token, own_.reveal()))
    return revision::Author{std::string(kOwn), revision::Role::administrator, from};
  const Octets hash = revision::sha256(token);
  const auto found = std::find_if(tokens_.begin(), tokens_.end(), [&](const revision::KnownToken& known) {
    return equal_in_constant_time(known.hash, hash);
  });
  if (found == tokens_.end()) return std::nullopt;
  return revision::Author{found->token.name, found->token.role, from};
}

Callers::Judged Callers::judge(const std::string& authorization, const std::string& from, TimePoint now) {
  const std::lock_guard lock(mutex_);
  auto author = find(authorization, from);
  if (author) return {std::move(author), false};
  return {std::nullopt, count_wrong(from, now)};
}

bool Callers::count_wrong(const std::string& from, TimePoint now) {
  ++refused_;
  if (wrong_.size() >= kMostAddresses && !wrong_.contains(from)) wrong_.clear();
  Wrong& wrong = wrong_[from];
  const bool fresh = now - wrong.since > kWindow;
  ++wrong.count;
  if (fresh) {
    const std::size_t untold = wrong.count - wrong.told;
    server::log_warning(
        untold > 1 ? fmt::format("management: {} requests from {} had no token of this node since the "
                                 "last such line",
                                 untold, from)
                   : fmt::format("management: a request from {} had no token of this node", from));
    wrong = {now, 1, 1};
  }
  return wrong.count > kOften;
}

bool Callers::in_force(const revision::Author& author) const {
  if (author.name == kOwn) return true;
  const std::lock_guard lock(mutex_);
  return std::any_of(tokens_.begin(), tokens_.end(),
                     [&](const revision::KnownToken& known) { return known.token.name == author.name; });
}

std::uint64_t Callers::refused() const {
  const std::lock_guard lock(mutex_);
  return refused_;
}

}  // namespace jembatan::admin
