#include "identity/shape.h"

#include <algorithm>
#include <string>

#include "base/text.h"

namespace jembatan::identity {
namespace {

constexpr std::size_t kCodeDigits = 6;

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

std::string swapped_case(std::string text) {
  for (char& c : text) {
    const bool letter = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z');
    if (letter) c = static_cast<char>(static_cast<unsigned char>(c) ^ 0x20U);
  }
  return text;
}

// The same keys on another keyboard: what stands in `from` is typed where `to` stands.
std::string mirrored(std::string text, std::string_view from, std::string_view to) {
  for (char& c : text) {
    const std::size_t at = from.find(c);
    if (at != std::string_view::npos) c = to[at];
  }
  return text;
}

// Letters that trade places, and signs that do, between the layouts whose first letters are qwertz or azerty
// and qwerty.
constexpr std::string_view kQwertz[] = {"yzYZ", "zyZY"};
constexpr std::string_view kAzerty[] = {"aqzwAQZWm;", "qawzQAWZ;m"};

void wipe_text(std::string& text) {
  wipe({reinterpret_cast<std::uint8_t*>(text.data()), text.size()});
}

bool matches(const StoredPassword& kept, std::string text) {
  const bool same = kept.matches(view_of(text));
  wipe_text(text);
  return same;
}

bool same_but_case(std::string_view typed, const StoredPassword& kept) {
  if (kept.form() == StoredPassword::Form::clear) return lower(typed) == lower(text_of(kept.kept()));
  const bool swapped = matches(kept, swapped_case(std::string(typed)));
  const bool small = matches(kept, lower(typed));
  return swapped || small;
}

std::string_view hint_of(const std::string& typed, const StoredPassword& kept) {
  const std::string_view trimmed = trim(typed);
  const bool spaces = trimmed.size() != typed.size();
  if (kept.slow()) return spaces ? "a space stands at an end of it" : "";
  // All are tried, whatever the first ones say: the time tells nothing.
  const bool right_without_spaces = matches(kept, std::string(trimmed));
  const bool code =
      typed.size() > kCodeDigits &&
      std::all_of(typed.end() - static_cast<std::ptrdiff_t>(kCodeDigits), typed.end(), is_digit);
  const bool right_without_code = matches(kept, code ? typed.substr(0, typed.size() - kCodeDigits) : typed);
  const bool right_but_case = same_but_case(typed, kept);
  bool right_elsewhere = false;
  for (const auto& [from, to] : {std::pair{kQwertz[0], kQwertz[1]}, std::pair{kAzerty[0], kAzerty[1]}}) {
    const bool right = matches(kept, mirrored(typed, from, to));
    right_elsewhere = right_elsewhere || right;
  }
  if (spaces && right_without_spaces) return "it has a space too many at an end";
  if (right_but_case) return "it differs in letter case alone";
  if (code && right_without_code) return "it has six digits more than expected";
  if (right_elsewhere) return "it is typed as on another keyboard layout";
  return "";
}

}  // namespace

std::string_view shape_hint(OctetView octets, const StoredPassword& kept) {
  if (octets.empty()) return "the password is empty";
  std::string typed(text_of(octets));
  const std::string_view out = hint_of(typed, kept);
  wipe_text(typed);
  return out;
}

}  // namespace jembatan::identity
