// What has served of one-time codes, as octets and from two sides.
#include <algorithm>

#include "base/compact.h"
#include "identity/one_time_code.h"

namespace jembatan::identity {

namespace {

constexpr std::uint64_t kPageVersion = 1;
constexpr std::uint64_t kMostTokens = 64;

}  // namespace

CodePage merged(CodePage one, const CodePage& other) {
  one.wrong = std::max(one.wrong, other.wrong);
  one.locked_until = std::max(one.locked_until, other.locked_until);
  for (const CodePage::Used& theirs : other.used) {
    const auto ours = std::find_if(one.used.begin(), one.used.end(),
                                   [&](const CodePage::Used& used) { return used.token == theirs.token; });
    if (ours == one.used.end()) {
      one.used.push_back(theirs);
    } else if (ours->mark != theirs.mark) {
      if (theirs.last > ours->last) *ours = theirs;  // whose key is newer has served later
    } else {
      if (theirs.next > ours->next) ours->ahead = theirs.ahead;
      ours->next = std::max(ours->next, theirs.next);
      ours->recovered |= theirs.recovered;
      ours->last = std::max(ours->last, theirs.last);
    }
  }
  return one;
}

Octets packed(const CodePage& page) {
  Octets octets;
  CompactWriter out(octets);
  out.number(kPageVersion);
  out.number(page.wrong);
  out.moment(page.locked_until);
  out.number(page.used.size());
  for (const CodePage::Used& used : page.used) {
    out.text(used.token);
    out.number(used.mark);
    out.number(used.next);
    out.difference(used.ahead);
    out.number(used.recovered);
    out.moment(used.last);
  }
  return octets;
}

Result<CodePage> unpacked_page(OctetView octets) {
  CompactReader in(octets);
  if (in.number() != kPageVersion) in.fail();
  CodePage out;
  out.wrong = static_cast<std::uint32_t>(in.number());
  out.locked_until = in.moment();
  const std::uint64_t count = in.number();
  if (count > kMostTokens) in.fail();
  for (std::uint64_t i = 0; i < count && in.ok(); ++i) {
    CodePage::Used used;
    used.token = in.text();
    used.mark = in.number();
    used.next = in.number();
    used.ahead = in.difference();
    used.recovered = static_cast<std::uint32_t>(in.number());
    used.last = in.moment();
    out.used.push_back(std::move(used));
  }
  if (!in.ok() || !in.at_end()) return fail(Errc::malformed, "what is kept of one-time codes cannot be read");
  return out;
}

}  // namespace jembatan::identity
