#include "condition/template.h"

#include <fmt/format.h>

#include "base/text.h"
#include "condition/values.h"
#include "dictionary/encode.h"
#include "dictionary/value_text.h"

namespace jembatan::condition {
namespace {

constexpr std::string_view kMatch = "match.";

// How many octets the place at the beginning takes, with its braces; 0: it is none.
std::size_t place_size(std::string_view text) {
  static constexpr std::string_view kInside =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_.";
  if (!text.starts_with('{')) return 0;
  const std::size_t end = text.find_first_not_of(kInside, 1);
  return end == std::string_view::npos || text[end] != '}' || end == 1 ? 0 : end + 1;
}

// Text as it is, without quotes; other values as people read them.
std::string plain_value(const dictionary::Definition& attribute, OctetView value) {
  if (shape_of(attribute) == Shape::octets && is_plain_text(value))
    return std::string(jembatan::text_of(value));
  return dictionary::print_value(attribute, value);
}

}  // namespace

bool Template::has_places(std::string_view source) {
  for (std::size_t at = source.find('{'); at != std::string_view::npos; at = source.find('{', at + 1)) {
    if (place_size(source.substr(at)) > 0) return true;
  }
  return false;
}

std::optional<Template> Template::parse(std::string_view source, const dictionary::Catalogue& catalogue,
                                        std::vector<Mistake>& mistakes) {
  const std::size_t before = mistakes.size();
  Template out;
  std::string plain;
  for (std::size_t at = 0; at < source.size();) {
    if (source.substr(at).starts_with("{{")) {
      plain += '{';
      at += 2;
      continue;
    }
    const std::size_t size = place_size(source.substr(at));
    if (size == 0) {
      plain += source[at++];
      continue;
    }
    if (!plain.empty()) out.parts_.push_back({std::exchange(plain, {}), false, {}, nullptr, {}, {}});
    Part part{std::string(source.substr(at + 1, size - 2)), true, Fact::attribute, nullptr, {}, {}};
    if (const auto fact = fact_named(part.text)) {
      part.fact = *fact;
    } else if (const auto keyed = keyed_fact_named(part.text)) {
      part.fact = keyed->fact;
      part.key = keyed->key;
    } else if (part.text.starts_with(kMatch)) {
      part.capture = part.text.substr(kMatch.size());
    } else if (const auto found = dictionary::find_named(catalogue, part.text); !found) {
      mistakes.push_back(
          {at + 1, size - 2, found.error().text,
           "an attribute, " + fmt::format("{}, {}, match.NAME", join(fact_names(), ", "), kKeyedFacts)});
    } else if (!is_reachable(**found)) {
      mistakes.push_back(
          {at + 1, size - 2, fmt::format("the value of {} cannot be read here", part.text), ""});
    } else {
      part.attribute = *found;
    }
    out.parts_.push_back(std::move(part));
    at += size;
  }
  if (!plain.empty()) out.parts_.push_back({std::move(plain), false, {}, nullptr, {}, {}});
  if (mistakes.size() > before) return std::nullopt;
  return out;
}

std::optional<std::string> Template::value_of(const Part& part, const Facts& facts,
                                              const Captures& captures) {
  if (!part.capture.empty()) {
    const auto found = captures.find(part.capture);
    return found == captures.end() ? std::nullopt : std::optional(found->second);
  }
  std::string out;
  if (part.attribute != nullptr) {
    if (facts.packet == nullptr) return std::nullopt;
    each_value(*facts.packet, *part.attribute, *facts.catalogue, [&](OctetView value) {
      out = plain_value(*part.attribute, value);
      return false;
    });
  } else if (is_keyed(part.fact)) {
    out = keyed_fact(part.fact, part.key, facts).value_or("");
  } else {
    out = text_fact(part.fact, facts);
  }
  return out.empty() ? std::nullopt : std::optional(std::move(out));
}

std::optional<std::string> Template::fill(const Facts& facts, const Captures& captures,
                                          std::string& missing) const {
  std::string out;
  for (const Part& part : parts_) {
    if (!part.place) {
      out += part.text;
    } else if (const auto value = value_of(part, facts, captures)) {
      out += *value;
    } else {
      missing = part.text;
      return std::nullopt;
    }
  }
  return out;
}

std::vector<const dictionary::Definition*> Template::attributes() const {
  std::vector<const dictionary::Definition*> out;
  for (const Part& part : parts_) {
    if (part.attribute != nullptr) out.push_back(part.attribute);
  }
  return out;
}

bool Template::uses_captures() const {
  for (const Part& part : parts_) {
    if (!part.capture.empty()) return true;
  }
  return false;
}

}  // namespace jembatan::condition
