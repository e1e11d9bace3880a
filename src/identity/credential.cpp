#include "identity/credential.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

namespace jembatan::identity {
namespace {

using wire::AttributeType;

constexpr std::size_t kLeastChallenge = 5;

// In the order in which a method is named if there are several.
struct Kind {
  std::string_view method;
  std::string_view attribute;
  bool may_repeat = false;  ///< its value may be spread over several attributes
};
constexpr std::array<Kind, 9> kKinds{{
    {"eap", "EAP-Message", true},
    {"pap", "User-Password"},
    {"chap", "CHAP-Password"},
    {"ms-chap-v2", "MS-CHAP2-Response"},
    {"ms-chap-v2", "MS-CHAP2-CPW"},
    {"ms-chap", "MS-CHAP-Response"},
    {"ms-chap", "MS-CHAP-CPW"},
    {"arap", "ARAP-Password"},
    {"digest", "Digest-Response"},
}};
enum Place : std::size_t { eap, pap, chap, response_2, change_2, response_1, change_1, arap, digest };

using Counts = std::array<std::uint16_t, kKinds.size()>;

template <class Take>
void each_microsoft(OctetView vendor_specific, Take take) {
  if (vendor_specific.size() < 6 || load32(vendor_specific.data()) != kMicrosoft) return;
  for (OctetView inside = vendor_specific.subspan(4);
       inside.size() >= 2 && inside[1] >= 2 && inside[1] <= inside.size();
       inside = inside.subspan(inside[1])) {
    take(static_cast<MicrosoftType>(inside[0]), inside.subspan(2, inside[1] - 2U));
  }
}

void count_microsoft(OctetView vendor_specific, Counts& counts) {
  each_microsoft(vendor_specific, [&counts](MicrosoftType type, OctetView) {
    switch (type) {
      case MicrosoftType::response_2:
        ++counts[response_2];
        break;
      case MicrosoftType::change_version_2:
        ++counts[change_2];
        break;
      case MicrosoftType::response_1:
        ++counts[response_1];
        break;
      case MicrosoftType::change_1:
      case MicrosoftType::change_2:
        ++counts[change_1];
        break;
      case MicrosoftType::challenge:
      case MicrosoftType::success_2:
        break;
    }
  });
}

std::string contradiction(const Counts& counts, std::size_t first) {
  for (std::size_t i = 0; i < counts.size(); ++i) {
    if (counts[i] > 0 && kKinds[i].method != kKinds[first].method)
      return fmt::format("{} and {} in one request: two kinds of credentials (RFC 2865 §4.1, RFC 3579 §3.3)",
                         kKinds[first].attribute, kKinds[i].attribute);
    if (counts[i] > 1 && !kKinds[i].may_repeat)
      return fmt::format("{} stands {} times in one request", kKinds[i].attribute, counts[i]);
  }
  return {};
}

}  // namespace

std::optional<OctetView> find_microsoft(const wire::PacketView& packet, MicrosoftType type) {
  std::optional<OctetView> out;
  for (const wire::Attribute attribute : packet.attributes()) {
    if (attribute.type != AttributeType::vendor_specific) continue;
    each_microsoft(attribute.value, [&](MicrosoftType found, OctetView value) {
      if (found == type && !out) out = value;
    });
    if (out) break;
  }
  return out;
}

Credential credential_of(const wire::PacketView& packet) {
  Counts counts{};
  std::size_t names = 0;
  std::size_t short_challenge = kLeastChallenge;
  for (const wire::Attribute attribute : packet.attributes()) {
    switch (attribute.type) {
      case AttributeType::user_name:
        ++names;
        break;
      case AttributeType::user_password:
        ++counts[pap];
        break;
      case AttributeType::chap_password:
        ++counts[chap];
        break;
      case AttributeType::chap_challenge:
        short_challenge = std::min(short_challenge, attribute.value.size());
        break;
      case AttributeType::eap_message:
        ++counts[eap];
        break;
      case AttributeType::arap_password:
        ++counts[arap];
        break;
      case AttributeType::digest_response:
        ++counts[digest];
        break;
      case AttributeType::vendor_specific:
        count_microsoft(attribute.value, counts);
        break;
      default:
        break;
    }
  }
  Credential out;
  if (names > 1) out.problem = fmt::format("User-Name stands {} times in one request", names);
  const auto* first =
      std::find_if(counts.begin(), counts.end(), [](std::uint16_t count) { return count > 0; });
  if (first == counts.end()) return out;
  const auto kind = static_cast<std::size_t>(first - counts.begin());
  out.method = kKinds[kind].method;
  if (out.problem.empty()) out.problem = contradiction(counts, kind);
  if (out.problem.empty() && out.method == "chap" && short_challenge < kLeastChallenge)
    out.problem =
        fmt::format("CHAP-Challenge has {} octets, must be 5 or more (RFC 2865 §5.40)", short_challenge);
  return out;
}

bool answered_here(std::string_view method) {
  return method == "pap" || method == "chap" || method == "ms-chap" || method == "ms-chap-v2";
}

}  // namespace jembatan::identity
