#include "identity/one_time_code.h"

#include <fmt/format.h>
#include <nettle/hmac.h>

#include <algorithm>

#include "base/text.h"

namespace jembatan::identity {

namespace {

constexpr std::string_view kAlphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567";
constexpr std::size_t kHalfOfRecovery = 5;  // characters
constexpr std::int64_t kMostAhead = 20;     // steps that a clock is followed

Octets hmac(Token::Hash hash, OctetView key, OctetView text) {
  Octets out;
  switch (hash) {
    case Token::Hash::sha1: {
      hmac_sha1_ctx context;
      hmac_sha1_set_key(&context, key.size(), key.data());
      hmac_sha1_update(&context, text.size(), text.data());
      out.resize(SHA1_DIGEST_SIZE);
      hmac_sha1_digest(&context, out.size(), out.data());
      break;
    }
    case Token::Hash::sha256: {
      hmac_sha256_ctx context;
      hmac_sha256_set_key(&context, key.size(), key.data());
      hmac_sha256_update(&context, text.size(), text.data());
      out.resize(SHA256_DIGEST_SIZE);
      hmac_sha256_digest(&context, out.size(), out.data());
      break;
    }
    case Token::Hash::sha512: {
      hmac_sha512_ctx context;
      hmac_sha512_set_key(&context, key.size(), key.data());
      hmac_sha512_update(&context, text.size(), text.data());
      out.resize(SHA512_DIGEST_SIZE);
      hmac_sha512_digest(&context, out.size(), out.data());
      break;
    }
  }
  return out;
}

std::string plain(std::string_view typed) {
  std::string out = lower(typed);
  std::erase_if(out, [](char c) { return c == ' ' || c == '-'; });
  return out;
}

bool same(std::string_view a, std::string_view b) {
  return equal_in_constant_time(view_of(a), view_of(b));
}

// A page and a token of it, while a code is looked at.
struct Judging {
  CodePage::Used& used;
  const Token& token;
  const std::string& typed;
  const CodeLimits& limits;
};

CodePage::Used& used_of(CodePage& page, const Token& token) {
  const std::uint64_t mark = mark_of(token);
  auto found = std::find_if(page.used.begin(), page.used.end(),
                            [&](const CodePage::Used& used) { return used.token == token.name; });
  if (found == page.used.end()) found = page.used.insert(found, {token.name, mark});
  if (found->mark != mark) *found = {token.name, mark};
  return *found;
}

// By time: around where the token's clock was seen last; whoever finds a code there that has served, knows
// it.
std::optional<CodeVerdict> by_time(const Judging& in, WallTime now) {
  const auto ours = static_cast<std::int64_t>(counter_at(in.token, now));
  const auto drift = static_cast<std::int64_t>(in.limits.drift);
  std::optional<std::int64_t> found;
  for (std::int64_t off = -drift; off <= drift; ++off) {
    const std::int64_t counter = ours + in.used.ahead + off;
    if (counter >= 0 && same(code_at(in.token, static_cast<std::uint64_t>(counter)), in.typed))
      found = counter;
  }
  if (!found) return std::nullopt;
  CodeVerdict out{CodeVerdict::What::used, in.token.name, *found - ours};
  if (static_cast<std::uint64_t>(*found) < in.used.next) return out;
  out.what = CodeVerdict::What::right;
  in.used.next = static_cast<std::uint64_t>(*found) + 1;
  in.used.ahead = std::clamp(out.off, -kMostAhead, kMostAhead);
  return out;
}

// By uses: those that come next; a few that have served are known, so that their repeat is told as such.
std::optional<CodeVerdict> by_uses(const Judging& in) {
  constexpr std::uint64_t kBehind = 5;
  const std::uint64_t next = in.used.next;
  const std::uint64_t first = next - std::min(next, kBehind);
  std::optional<std::uint64_t> found;
  for (std::uint64_t counter = first; counter <= next + in.limits.look_ahead; ++counter) {
    if (same(code_at(in.token, counter), in.typed)) found = counter;
  }
  if (!found) return std::nullopt;
  CodeVerdict out{CodeVerdict::What::used, in.token.name,
                  static_cast<std::int64_t>(*found) - static_cast<std::int64_t>(next)};
  if (*found < next) return out;
  out.what = CodeVerdict::What::right;
  in.used.next = *found + 1;
  return out;
}

std::optional<CodeVerdict> by_recovery(const Judging& in) {
  for (unsigned number = 0; number < kRecoveryCodes; ++number) {
    if (!same(plain(recovery_code(in.token, number)), in.typed)) continue;
    CodeVerdict out{CodeVerdict::What::used, in.token.name};
    if ((in.used.recovered >> number & 1U) != 0) return out;
    in.used.recovered |= 1U << number;
    out.what = CodeVerdict::What::recovered;
    for (unsigned i = 0; i < kRecoveryCodes; ++i) out.left += (in.used.recovered >> i & 1U) == 0 ? 1U : 0U;
    return out;
  }
  return std::nullopt;
}

std::optional<CodeVerdict> look_at(const Judging& in, WallTime now) {
  if (in.typed.size() == 2 * kHalfOfRecovery) return by_recovery(in);
  if (in.typed.size() != in.token.digits) return std::nullopt;
  return in.token.counts == Token::Counts::time ? by_time(in, now) : by_uses(in);
}

}  // namespace

std::string code_at(const Token& token, std::uint64_t counter) {
  std::uint8_t moving[8];
  store64(moving, counter);
  const Octets digest = hmac(token.hash, token.key.reveal(), moving);
  const std::uint32_t truncated = load32(&digest[digest.back() & 0xFU]) & 0x7FFFFFFFU;
  std::uint32_t modulo = 1;
  for (unsigned i = 0; i < token.digits; ++i) modulo *= 10;
  return fmt::format("{:0{}}", truncated % modulo, token.digits);
}

std::uint64_t counter_at(const Token& token, WallTime time) {
  const auto seconds = std::chrono::floor<std::chrono::seconds>(time.time_since_epoch()).count();
  return static_cast<std::uint64_t>(std::max<std::int64_t>(seconds, 0) / token.step.count());
}

std::string recovery_code(const Token& token, unsigned number) {
  const Octets digest =
      hmac(Token::Hash::sha256, token.key.reveal(), view_of(fmt::format("recovery code {}", number)));
  const std::string text = lower(to_base32(OctetView(digest).first(7)));
  return fmt::format("{}-{}", text.substr(0, kHalfOfRecovery), text.substr(kHalfOfRecovery, kHalfOfRecovery));
}

std::string to_base32(OctetView octets) {
  std::string out;
  std::uint32_t bits = 0;
  unsigned count = 0;
  for (const std::uint8_t octet : octets) {
    bits = (bits << 8U | octet) & 0xFFFFU;
    for (count += 8; count >= 5; count -= 5) out.push_back(kAlphabet[bits >> (count - 5) & 31U]);
  }
  if (count > 0) out.push_back(kAlphabet[bits << (5 - count) & 31U]);
  return out;
}

Result<Octets> from_base32(std::string_view text) {
  Octets out;
  std::uint32_t bits = 0;
  unsigned count = 0;
  for (const char c : plain(text)) {
    if (c == '=') continue;
    const std::size_t value = lower(kAlphabet).find(c);
    if (value == std::string_view::npos)
      return fail(Errc::malformed, "not Base32 (RFC 4648 §6): letters and the digits 2 to 7");
    bits = (bits << 5U | static_cast<std::uint32_t>(value)) & 0xFFFFU;
    if ((count += 5) < 8) continue;
    count -= 8;
    out.push_back(static_cast<std::uint8_t>(bits >> count));
  }
  return out;
}

Result<Secret> key_in(std::string_view base32) {
  auto octets = from_base32(base32);
  if (!octets) return octets.error();
  const std::size_t size = octets->size();
  Secret out(text_of(*octets));
  wipe(*octets);
  if (size >= kLeastKey && size <= kMostKey) return out;
  return fail(Errc::malformed,
              fmt::format("of {} octets, must be {} to {} (RFC 4226 §4)", size, kLeastKey, kMostKey));
}

Secret uri_of(const Token& token, std::string_view user, std::string_view issuer) {
  static constexpr std::string_view kHashes[] = {"SHA1", "SHA256", "SHA512"};
  const auto quoted = [](std::string_view text) {  // RFC 3986 §2.3: what is unreserved stays
    std::string out;
    for (const unsigned char c : text) {
      const bool stays = (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') ||
                         std::string_view("-._~@").find(static_cast<char>(c)) != std::string_view::npos;
      out += stays ? std::string(1, static_cast<char>(c)) : fmt::format("%{:02X}", c);
    }
    return out;
  };
  const bool by_time = token.counts == Token::Counts::time;
  const std::string label = issuer.empty() ? quoted(user) : quoted(issuer) + ":" + quoted(user);
  std::string out = fmt::format("otpauth://{}/{}?secret={}", by_time ? "totp" : "hotp", label,
                                to_base32(token.key.reveal()));
  if (!issuer.empty()) out += "&issuer=" + quoted(issuer);
  out += fmt::format("&algorithm={}&digits={}", kHashes[static_cast<std::size_t>(token.hash)], token.digits);
  out += by_time ? fmt::format("&period={}", token.step.count()) : "&counter=0";
  Secret secret(out);
  wipe({reinterpret_cast<std::uint8_t*>(out.data()), out.size()});
  return secret;
}

std::uint64_t mark_of(const Token& token) {
  const Octets digest = hmac(Token::Hash::sha256, token.key.reveal(), view_of("mark"));
  return load64(digest.data());
}

CodeVerdict judge(CodePage& page, std::span<const Token> tokens, std::string_view typed,
                  const CodeLimits& limits, WallTime now) {
  using What = CodeVerdict::What;
  if (now < page.locked_until) {
    CodeVerdict out;
    out.what = What::locked;
    out.until = page.locked_until;
    return out;
  }
  std::string code = plain(typed);
  CodeVerdict out;
  for (const Token& token : tokens) {
    CodePage::Used& used = used_of(page, token);
    const auto found = look_at({used, token, code, limits}, now);
    if (!found) continue;
    out = *found;
    if (!out.is_right()) continue;
    used.last = now;
    page.wrong = 0;
    break;
  }
  wipe({reinterpret_cast<std::uint8_t*>(code.data()), code.size()});
  if (out.is_right() || ++page.wrong < limits.lock_after || limits.lock_after == 0) return out;
  page.wrong = 0;
  page.locked_until = now + limits.lock_for;
  out.what = What::locks;
  out.until = page.locked_until;
  return out;
}

std::string words_of(const CodeVerdict& verdict) {
  using What = CodeVerdict::What;
  const auto off = [&] {
    if (verdict.off == 0) return std::string();
    return fmt::format(", {} {}", counted(static_cast<std::size_t>(std::abs(verdict.off)), "step"),
                       verdict.off < 0 ? "late" : "early");
  };
  switch (verdict.what) {
    case What::right:
      return fmt::format("right, of '{}'{}", escaped(verdict.token), off());
    case What::recovered:
      return fmt::format("a recovery code of '{}', {} left", escaped(verdict.token), verdict.left);
    case What::wrong:
      return "wrong";
    case What::used:
      return fmt::format("of '{}', and has served before", escaped(verdict.token));
    case What::locked:
      return "not looked at: locked until " + second_text(verdict.until);
    case What::locks:
      return "wrong once too often: locked until " + second_text(verdict.until);
  }
  return {};
}

}  // namespace jembatan::identity
