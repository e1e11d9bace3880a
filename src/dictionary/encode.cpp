#include "dictionary/encode.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "dictionary/layout.h"
#include "dictionary/value_text.h"
#include "wire/attribute.h"
#include "wire/hidden.h"

namespace jembatan::dictionary {
namespace {

Error too_long(std::size_t size, std::size_t most) {
  return fail(Errc::too_long, fmt::format("value of {} octets, allowed 0 to {}", size, most));
}

Octets octets_wide(std::uint32_t number, std::size_t width) {
  std::uint8_t all[4];
  store32(all, number);
  return {all + 4 - width, all + 4};
}

Status append_attribute(Octets& out, std::uint32_t type, OctetView head, OctetView value) {
  const std::size_t size = wire::kAttributeHeader + head.size() + value.size();
  if (size > 255) return too_long(value.size(), 255 - wire::kAttributeHeader - head.size());
  out.push_back(static_cast<std::uint8_t>(type));
  out.push_back(static_cast<std::uint8_t>(size));
  append(out, head);
  append(out, value);
  return {};
}

// One tlv (RFC 6929 §2.3).
Result<Octets> wrapped_in_tlv(std::uint32_t type, OctetView value) {
  Octets out;
  const Status added = append_attribute(out, type, {}, value);
  if (!added) return added.error();
  return out;
}

Result<Octets> vendor_attribute(const Catalogue& catalogue, const Path& path, OctetView value) {
  const Vendor* known = catalogue.vendor(path[1]);
  const Vendor vendor = known == nullptr ? Vendor{} : *known;
  Octets head = octets_wide(path[1], 4);
  append(head, octets_wide(path[2], vendor.type_octets));
  if (vendor.length_octets > 0) {
    const std::size_t length = vendor.type_octets + vendor.length_octets + value.size();
    append(head, octets_wide(static_cast<std::uint32_t>(length), vendor.length_octets));
  }
  Octets out;
  const Status added = append_attribute(out, path[0], head, value);
  if (!added) return added.error();
  return out;
}

// RFC 6929 §2.1, §2.2: what stands behind the extended type; with EVS the vendor and its type come first
// (§2.4).
Result<Octets> extended_attribute(const Path& path, OctetView value) {
  Octets inner;
  if (path.size() >= 4 && path[1] == kVendorSpecific) {
    inner = octets_wide(path[2], 4);
    inner.push_back(static_cast<std::uint8_t>(path[3]));
  }
  append(inner, value);
  const auto type = static_cast<std::uint8_t>(path[1]);
  Octets out;
  if (!is_long_extended(path[0])) {
    const Status added = append_attribute(out, path[0], Octets{type}, inner);
    if (!added) return added.error();
    return out;
  }
  OctetView left = inner;
  do {
    const OctetView piece = left.first(std::min(left.size(), kLongExtendedPiece));
    left = left.subspan(piece.size());
    const std::uint8_t flags = left.empty() ? 0 : kMoreFlag;
    (void)append_attribute(out, path[0], Octets{type, flags}, piece);
  } while (!left.empty());
  if (out.size() > wire::kMaxAttributes) return too_long(value.size(), wire::kMaxAttributes);
  return out;
}

Result<Octets> plain_attribute(const Definition* definition, const Path& path, OctetView value) {
  const bool cut = definition != nullptr && definition->type == DataType::concat;
  Octets out;
  do {
    const std::size_t most = cut ? std::min(value.size(), wire::kMaxValue) : value.size();
    const Status added = append_attribute(out, path[0], {}, value.first(most));
    if (!added) return added.error();
    value = value.subspan(most);
  } while (!value.empty());
  if (out.size() > wire::kMaxAttributes) return too_long(value.size(), wire::kMaxAttributes);
  return out;
}

Result<Octets> wrapped(const Catalogue& catalogue, const Path& path, Octets value) {
  const std::size_t top = top_of(path);
  for (std::size_t i = path.size(); i > top; --i) {
    auto outer = wrapped_in_tlv(path[i - 1], value);
    if (!outer) return outer;
    value = std::move(*outer);
  }
  if (path[0] == kVendorSpecific && path.size() >= 3) return vendor_attribute(catalogue, path, value);
  if (is_extended(path[0]) && path.size() >= 2) return extended_attribute(path, value);
  const Path outermost(path.begin(), path.begin() + 1);
  return plain_attribute(catalogue.at(outermost), path, value);
}

// "{ Name=value, Name=value }" into its parts; commas inside quotes and braces do not count.
Result<std::vector<std::string_view>> parts_of(std::string_view text) {
  if (text.size() < 2 || text.front() != '{' || text.back() != '}') {
    return fail(Errc::malformed,
                fmt::format("'{}' is not {{ Name=value, Name=value }} or 0x…", escaped(text)));
  }
  text = text.substr(1, text.size() - 2);
  std::vector<std::string_view> out;
  std::size_t begin = 0;
  int depth = 0;
  bool quoted = false;
  for (std::size_t i = 0; i <= text.size(); ++i) {
    const char c = i < text.size() ? text[i] : ',';
    if (c == '"') quoted = !quoted;
    if (!quoted && c == '{') ++depth;
    if (!quoted && c == '}') --depth;
    if (c != ',' || quoted || depth != 0) continue;
    const std::string_view part = trim(text.substr(begin, i - begin));
    if (!part.empty()) out.push_back(part);
    begin = i + 1;
  }
  if (quoted || depth != 0) return fail(Errc::malformed, "a quote or bracket is not closed");
  return out;
}

Result<Octets> leaf(const Catalogue& catalogue, const Definition& definition, std::string_view text,
                    const Hide& hide);

Result<Octets> tlv_value(const Catalogue& catalogue, const Definition& definition, std::string_view text,
                         const Hide& hide) {
  const auto parts = parts_of(trim(text));
  if (!parts) return parts.error();
  Octets out;
  for (const std::string_view part : *parts) {
    const std::size_t equals = part.find('=');
    if (equals == std::string_view::npos) {
      return fail(Errc::malformed, fmt::format("'{}' is not Name=value", escaped(part)));
    }
    const auto inner = find_named(catalogue, trim(part.substr(0, equals)));
    if (!inner) return inner.error();
    Path outer = (*inner)->path;
    const std::uint32_t number = outer.back();
    outer.pop_back();
    if (outer != definition.path) {
      return fail(Errc::malformed,
                  fmt::format("{} does not stand inside {}", (*inner)->name, definition.name));
    }
    const auto value = leaf(catalogue, **inner, trim(part.substr(equals + 1)), hide);
    if (!value) return value.error().at((*inner)->name);
    const auto tlv = wrapped_in_tlv(number, *value);
    if (!tlv) return tlv.error().at((*inner)->name);
    append(out, *tlv);
  }
  return out;
}

Result<Octets> leaf(const Catalogue& catalogue, const Definition& definition, std::string_view text,
                    const Hide& hide) {
  if (definition.type == DataType::tlv && !text.starts_with("0x"))
    return tlv_value(catalogue, definition, text, hide);
  auto value = parse_value(definition, text);
  if (!value || definition.hiding == Hiding::none) return value;
  if (!hide) {
    return fail(Errc::not_allowed,
                "its value is hidden under the shared secret, which differs from packet to packet");
  }
  return hide(definition.hiding, *value);
}

Status add_tag(const Definition& definition, std::string_view text, Octets& value) {
  if (!definition.tagged) return fail(Errc::malformed, "it carries no tag (RFC 2868)");
  const auto tag = parse_number(text, kLastTag);
  if (!tag) return tag.error().at("tag");
  if (tag_in_number(definition) && !value.empty()) {
    value[0] = static_cast<std::uint8_t>(*tag);
  } else {
    value.insert(value.begin(), static_cast<std::uint8_t>(*tag));
  }
  return {};
}

}  // namespace

Result<Octets> hide_for_nobody(Hiding hiding, OctetView value) {
  static const wire::SharedSecret kNobodys{Secret("nobody's")};
  return hiding == Hiding::salted ? wire::hide_salted(value, 0, {}, kNobodys)
                                  : wire::hide_password(value, {}, kNobodys);
}

TaggedName split_tag(std::string_view text) {
  const std::size_t open = text.find('[');
  if (open == std::string_view::npos || !text.ends_with(']')) return {text, std::nullopt};
  return {text.substr(0, open), text.substr(open + 1, text.size() - open - 2)};
}

const Definition* definition_of(const Catalogue& catalogue, std::string_view name) {
  if (const auto path = parse_path(name)) return catalogue.at(*path);
  return catalogue.named(split_tag(name).name);
}

Result<const Definition*> find_named(const Catalogue& catalogue, std::string_view name) {
  const std::string_view bare = split_tag(name).name;
  if (const Definition* definition = catalogue.named(bare)) return definition;
  const auto near = nearest(bare, catalogue.names());
  return fail(Errc::not_found, fmt::format("attribute '{}' is in no dictionary{}", escaped(bare),
                                           near ? fmt::format("; nearest: '{}'", *near) : ""));
}

Result<Octets> wrap(const Catalogue& catalogue, const Definition& definition, OctetView value) {
  auto out = wrapped(catalogue, definition.path, Octets(value.begin(), value.end()));
  return out ? out : out.error().at(definition.name);
}

Result<Octets> encode(const Catalogue& catalogue, std::string_view name, std::string_view value,
                      const Hide& hide) {
  const auto number = parse_path(name);
  if (number && (*number)[0] >= 1 && (*number)[0] <= 255) {
    const Definition* known = catalogue.at(*number);
    static const Definition kUnknown;
    auto octets = leaf(catalogue, known == nullptr ? kUnknown : *known, value, hide);
    if (!octets) return octets.error().at(name);
    auto out = wrapped(catalogue, *number, std::move(*octets));
    return out ? out : out.error().at(name);
  }
  const auto definition = find_named(catalogue, name);
  if (!definition) return definition.error();
  const auto tag = split_tag(name).tag;
  auto octets = leaf(catalogue, **definition, value, hide);
  if (!octets) return octets.error().at((*definition)->name);
  const bool needs_tag = (*definition)->tagged && (*definition)->hiding == Hiding::salted;
  if (tag || needs_tag) {
    const Status tagged = add_tag(**definition, tag.value_or("0"), *octets);
    if (!tagged) return tagged.error().at((*definition)->name);
  }
  auto out = wrapped(catalogue, (*definition)->path, std::move(*octets));
  return out ? out : out.error().at((*definition)->name);
}

}  // namespace jembatan::dictionary
