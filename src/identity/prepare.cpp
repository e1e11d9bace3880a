// Preparing names for comparison: RFC 8265 (its profile UsernameCaseMapped), RFC 8264 (IdentifierClass), RFC
// 5893 §2 (the Bidi Rule). What is in Unicode comes from utf8proc.
#include <utf8proc.h>

#include <algorithm>
#include <cstdlib>
#include <memory>
#include <vector>

#include "base/text.h"
#include "identity/name.h"

namespace jembatan::identity {
namespace {

using CodePoints = std::vector<utf8proc_int32_t>;

struct Free {
  void operator()(utf8proc_uint8_t* text) const { std::free(text); }  // NOLINT: as utf8proc allocates it
};

bool is_ascii(std::string_view text) {
  return std::all_of(text.begin(), text.end(), [](char c) { return static_cast<unsigned char>(c) < 0x80; });
}

std::optional<CodePoints> code_points(std::string_view text) {
  CodePoints out;
  const auto* at = reinterpret_cast<const utf8proc_uint8_t*>(text.data());
  for (auto left = static_cast<utf8proc_ssize_t>(text.size()); left > 0;) {
    utf8proc_int32_t code = 0;
    const utf8proc_ssize_t used = utf8proc_iterate(at, left, &code);
    if (used <= 0) return std::nullopt;
    out.push_back(code);
    at += used;
    left -= used;
  }
  return out;
}

std::string utf8(const CodePoints& codes) {
  std::string out;
  for (const utf8proc_int32_t code : codes) {
    std::array<utf8proc_uint8_t, 4> octets{};
    const auto size = utf8proc_encode_char(code, octets.data());
    out.append(reinterpret_cast<const char*>(octets.data()), static_cast<std::size_t>(size));
  }
  return out;
}

std::optional<std::string> normalized(const std::string& text, int more) {
  utf8proc_uint8_t* raw = nullptr;
  const auto size = utf8proc_map(reinterpret_cast<const utf8proc_uint8_t*>(text.data()),
                                 static_cast<utf8proc_ssize_t>(text.size()), &raw,
                                 static_cast<utf8proc_option_t>(UTF8PROC_STABLE | UTF8PROC_COMPOSE | more));
  const std::unique_ptr<utf8proc_uint8_t, Free> held(raw);
  if (size < 0) return std::nullopt;
  return std::string(reinterpret_cast<const char*>(raw), static_cast<std::size_t>(size));
}

// RFC 8265 §3.1: full-width and half-width forms stand for what they decompose to.
void map_width(utf8proc_int32_t code, CodePoints& out) {
  const auto type = utf8proc_get_property(code)->decomp_type;
  if (type != UTF8PROC_DECOMP_TYPE_WIDE && type != UTF8PROC_DECOMP_TYPE_NARROW) return out.push_back(code);
  std::array<utf8proc_int32_t, 32> parts{};
  int boundary = 0;
  const auto count = utf8proc_decompose_char(
      code, parts.data(), parts.size(), static_cast<utf8proc_option_t>(UTF8PROC_DECOMPOSE | UTF8PROC_COMPAT),
      &boundary);
  if (count < 1) return out.push_back(code);
  out.insert(out.end(), parts.begin(), parts.begin() + std::min<std::ptrdiff_t>(count, parts.size()));
}

// RFC 8264 §4.2: letters, digits and ASCII; a space stands between parts of a name (RFC 8265 §3.1).
bool is_allowed(utf8proc_int32_t code) {
  if (code < 0x80) return code >= 0x20 && code != 0x7F;
  switch (utf8proc_category(code)) {
    case UTF8PROC_CATEGORY_LU:
    case UTF8PROC_CATEGORY_LL:
    case UTF8PROC_CATEGORY_LO:
    case UTF8PROC_CATEGORY_LM:
    case UTF8PROC_CATEGORY_MN:
    case UTF8PROC_CATEGORY_MC:
    case UTF8PROC_CATEGORY_ND:
      return true;
    default:
      return false;
  }
}

// RFC 5893 §2, for text with a letter that is written from right to left.
bool bidi_rule_holds(const CodePoints& codes) {
  const auto class_of = [](utf8proc_int32_t code) { return utf8proc_get_property(code)->bidi_class; };
  const auto is = [&](utf8proc_int32_t code, std::initializer_list<int> classes) {
    return std::find(classes.begin(), classes.end(), int{class_of(code)}) != classes.end();
  };
  const auto right = [&](utf8proc_int32_t code) {
    return is(code, {UTF8PROC_BIDI_CLASS_R, UTF8PROC_BIDI_CLASS_AL, UTF8PROC_BIDI_CLASS_AN});
  };
  if (std::none_of(codes.begin(), codes.end(), right)) return true;
  if (!is(codes.front(), {UTF8PROC_BIDI_CLASS_R, UTF8PROC_BIDI_CLASS_AL})) return false;
  const bool all = std::all_of(codes.begin(), codes.end(), [&](utf8proc_int32_t code) {
    return !is(code,
               {UTF8PROC_BIDI_CLASS_L, UTF8PROC_BIDI_CLASS_B, UTF8PROC_BIDI_CLASS_S, UTF8PROC_BIDI_CLASS_WS});
  });
  const auto holds = [&](int wanted) {
    return std::any_of(codes.begin(), codes.end(), [&](utf8proc_int32_t code) { return is(code, {wanted}); });
  };
  const auto last = std::find_if(codes.rbegin(), codes.rend(),
                                 [&](utf8proc_int32_t code) { return !is(code, {UTF8PROC_BIDI_CLASS_NSM}); });
  return all && !(holds(UTF8PROC_BIDI_CLASS_EN) && holds(UTF8PROC_BIDI_CLASS_AN)) && last != codes.rend() &&
         is(*last,
            {UTF8PROC_BIDI_CLASS_R, UTF8PROC_BIDI_CLASS_AL, UTF8PROC_BIDI_CLASS_EN, UTF8PROC_BIDI_CLASS_AN});
}

}  // namespace

std::optional<std::string> case_mapped(std::string_view name) {
  const auto codes = code_points(name);
  if (!codes || codes->empty()) return std::nullopt;
  CodePoints mapped;
  for (const utf8proc_int32_t code : *codes) map_width(code, mapped);
  for (utf8proc_int32_t& code : mapped) code = utf8proc_tolower(code);
  auto out = normalized(utf8(mapped), 0);
  if (!out || normalized(*out, UTF8PROC_COMPAT) != out) return std::nullopt;
  const auto last = code_points(*out);
  const bool allowed = last && std::all_of(last->begin(), last->end(), is_allowed) && bidi_rule_holds(*last);
  return allowed ? out : std::nullopt;
}

std::string comparable(std::string_view name) {
  if (is_ascii(name)) return lower(name);
  return case_mapped(name).value_or(lower(name));
}

Comparable::Comparable(std::string_view name) : text_(name) {
  const bool is_one = std::none_of(name.begin(), name.end(), [](char c) {
    return static_cast<unsigned char>(c) >= 0x80U || (c >= 'A' && c <= 'Z');
  });
  if (is_one) return;
  made_ = comparable(name);
  text_ = made_;
}

}  // namespace jembatan::identity
