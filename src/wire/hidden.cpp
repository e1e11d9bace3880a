#include "wire/hidden.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace jembatan::wire {
namespace {

constexpr std::size_t kBlock = 16;

// b(i) = MD5(secret + previous)
Authenticator key_block(const SharedSecret& secret, OctetView previous) {
  md5_ctx md5 = secret.md5_start();
  md5_update(&md5, previous.size(), previous.data());
  Authenticator out;
  md5_digest(&md5, out.size(), out.data());
  return out;
}

}  // namespace

Result<Octets> hide_password(OctetView password, const Authenticator& request, const SharedSecret& secret) {
  if (password.size() > kMaxPassword) {
    return fail(Errc::too_long,
                fmt::format("password of {} octets, allowed 0 to {}", password.size(), kMaxPassword));
  }
  Octets out(std::max(kBlock, (password.size() + kBlock - 1) / kBlock * kBlock));
  std::copy(password.begin(), password.end(), out.begin());
  OctetView previous = request;
  for (std::size_t at = 0; at < out.size(); at += kBlock) {
    const Authenticator key = key_block(secret, previous);
    for (std::size_t i = 0; i < kBlock; ++i) out[at + i] ^= key[i];
    previous = OctetView(out).subspan(at, kBlock);
  }
  return out;
}

Result<Octets> reveal_password(OctetView hidden, const Authenticator& request, const SharedSecret& secret) {
  if (hidden.empty() || hidden.size() > kMaxPassword || hidden.size() % kBlock != 0) {
    return fail(Errc::malformed,
                fmt::format("User-Password of {} octets, allowed 16 to 128 in steps of 16", hidden.size()));
  }
  Octets out(hidden.begin(), hidden.end());
  OctetView previous = request;
  for (std::size_t at = 0; at < out.size(); at += kBlock) {
    const Authenticator key = key_block(secret, previous);
    for (std::size_t i = 0; i < kBlock; ++i) out[at + i] ^= key[i];
    previous = hidden.subspan(at, kBlock);
  }
  while (!out.empty() && out.back() == 0) out.pop_back();
  return out;
}

bool looks_unreadable(OctetView password) {
  return !is_plain_text(password);
}

}  // namespace jembatan::wire
