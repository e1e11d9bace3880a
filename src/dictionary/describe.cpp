#include "dictionary/describe.h"

#include <fmt/format.h>

#include "base/text.h"
#include "dictionary/layout.h"
#include "dictionary/value_text.h"
#include "wire/hidden.h"

namespace jembatan::dictionary {
namespace {

constexpr int kDeepest = 8;  // tlvs inside tlvs; an attribute of 255 octets could hold many more

std::uint32_t number_of(OctetView octets) {
  std::uint32_t out = 0;
  for (const std::uint8_t octet : octets) out = out << 8U | octet;
  return out;
}

class Describer {
 public:
  Describer(const Catalogue& catalogue, OctetView octets, const Opening* opening)
      : catalogue_(catalogue), octets_(octets), opening_(opening) {}

  std::vector<Described> run(std::size_t at) {
    while (at < octets_.size()) at = attribute(at);
    return std::move(out_);
  }

 private:
  // A value that may have been put together from several places of the packet.
  struct Value {
    Octets joined;  // used if there are several pieces
    OctetView octets;
    std::vector<Range> pieces;
  };

  std::uint8_t type_at(std::size_t at) const { return octets_[at]; }
  std::size_t size_at(std::size_t at) const { return octets_[at + 1]; }
  OctetView value_at(std::size_t at) const { return octets_.subspan(at + 2, size_at(at) - 2); }

  // Describes the attribute at this offset; gives the offset behind it and what belongs to it.
  std::size_t attribute(std::size_t at) {
    const std::uint8_t type = type_at(at);
    const Definition* definition = catalogue_.numbered(type);
    if (is_long_extended(type)) return long_extended(at);
    if (definition != nullptr && definition->type == DataType::concat) return concat(at);
    const OctetView value = value_at(at);
    const Range whole{at, size_at(at)};
    if (type == kVendorSpecific) {
      vendor_specific(value, whole);
    } else if (is_extended(type)) {
      extended(type, value, whole);
    } else {
      leaf({type}, {{}, value, {whole}}, 0);
    }
    return at + whole.size;
  }

  std::size_t concat(std::size_t at) {
    const std::uint8_t type = type_at(at);
    Value value;
    for (; at < octets_.size() && type_at(at) == type; at += size_at(at)) {
      append(value.joined, value_at(at));
      value.pieces.push_back({at, size_at(at)});
    }
    value.octets = value.joined;
    leaf({type}, value, 0);
    return at;
  }

  // RFC 6929 §2.2: pieces follow one another; all but the last have the More flag.
  std::size_t long_extended(std::size_t at) {
    const std::uint8_t type = type_at(at);
    if (value_at(at).size() < 2) {
      return broken(at, fmt::format("{} octets, an attribute of type long-extended has 2 or more",
                                    value_at(at).size()));
    }
    const std::uint8_t inner = value_at(at)[0];
    Value value;
    bool more = true;
    while (more && at < octets_.size() && type_at(at) == type && value_at(at).size() >= 2 &&
           value_at(at)[0] == inner) {
      more = (value_at(at)[1] & kMoreFlag) != 0;
      append(value.joined, value_at(at).subspan(2));
      value.pieces.push_back({at, size_at(at)});
      at += size_at(at);
    }
    value.octets = value.joined;
    inside_extended({type, inner}, value,
                    more ? "the last piece has the More flag, but nothing follows" : "");
    return at;
  }

  void extended(std::uint8_t type, OctetView value, Range whole) {
    if (value.empty()) {
      broken(whole.at, "no octets, an attribute of type extended has 1 or more");
    } else {
      inside_extended({type, value[0]}, {{}, value.subspan(1), {whole}}, "");
    }
  }

  void inside_extended(Path path, const Value& value, const std::string& problem) {
    const bool evs = path[1] == kVendorSpecific;
    if (evs && value.octets.size() < 5) {
      return line(path, octets_text(value.octets), value.pieces, 0,
                  "an evs has a vendor of 4 octets and a type of 1");
    }
    if (!evs) return leaf(path, value, 0, problem);
    path.push_back(load32(value.octets.data()));
    path.push_back(value.octets[4]);
    leaf(path, {{}, value.octets.subspan(5), value.pieces}, 0, problem);
  }

  // RFC 2865 §5.26. A vendor's own format need not be followed: then the octets are shown as they are.
  void vendor_specific(OctetView value, Range whole) {
    if (value.size() < 4) {
      broken(whole.at, fmt::format("{} octets, Vendor-Specific has 4 or more", value.size()));
      return;
    }
    const std::uint32_t number = load32(value.data());
    const Vendor* known = catalogue_.vendor(number);
    const Vendor vendor = known == nullptr ? Vendor{} : *known;
    const std::size_t before = out_.size();
    std::size_t at = 4;
    while (at < value.size()) {
      const std::size_t head = vendor.type_octets + vendor.length_octets;
      const OctetView rest = value.subspan(at);
      std::size_t size = rest.size();
      if (rest.size() >= head && vendor.length_octets > 0) {
        size = number_of(rest.subspan(vendor.type_octets, vendor.length_octets));
      }
      if (rest.size() < head || size < head || size > rest.size()) {
        out_.resize(before);
        line({kVendorSpecific, number}, octets_text(value.subspan(4)), {whole}, 0,
             known == nullptr ? "not in the form that RFC 2865 recommends" : "not in the vendor's form");
        return;
      }
      std::vector<Range> pieces{{whole.at + 2 + at, size}};
      // The first one takes the head along, so that every octet is told of.
      if (at == 4) pieces.insert(pieces.begin(), {whole.at, 6});
      if (at == 4 && size == rest.size()) pieces = {whole};
      leaf({kVendorSpecific, number, number_of(rest.first(vendor.type_octets))},
           {{}, rest.subspan(head, size - head), std::move(pieces)}, 0);
      at += size;
    }
    if (before == out_.size())
      line({kVendorSpecific, number}, octets_text({}), {whole}, 0, "no vendor attribute in it");
  }

  std::size_t broken(std::size_t at, const std::string& problem) {
    line({type_at(at)}, octets_text(value_at(at)), {{at, size_at(at)}}, 0, problem);
    return at + size_at(at);
  }

  void leaf(const Path& path, const Value& value, int depth, const std::string& problem = "") {
    const Definition* definition = catalogue_.at(path);
    if (definition != nullptr && definition->type == DataType::tlv && tlvs_fill(value.octets) &&
        depth < kDeepest) {
      line(path, fmt::format("({} octets)", value.octets.size()), value.pieces, depth, problem);
      for (std::size_t at = 0; at < value.octets.size(); at += value.octets[at + 1]) {
        Path inner = path;
        inner.push_back(value.octets[at]);
        const OctetView whole = value.octets.subspan(at, value.octets[at + 1]);
        leaf(inner, {{}, whole.subspan(2), place_of(whole)}, depth + 1);
      }
      return;
    }
    const bool tlv = definition != nullptr && definition->type == DataType::tlv;
    std::string what = tlv && problem.empty() ? "not made of tlvs" : problem;
    if (definition == nullptr) {
      line(path, octets_text(value.octets), value.pieces, depth, what);
      return;
    }
    std::uint8_t tag = 0;
    OctetView rest = value.octets;
    if (definition->tagged && !rest.empty() && rest[0] <= kLastTag) {
      tag = rest[0];
      if (!tag_in_number(*definition)) rest = rest.subspan(1);
    }
    line(path, shown(*definition, rest), value.pieces, depth, what);
    if (tag != 0) out_.back().name += fmt::format("[{}]", tag);
  }

  std::string shown(const Definition& definition, OctetView value) const {
    if (opening_ == nullptr || definition.hiding == Hiding::none) return print_value(definition, value);
    const auto opened = definition.hiding == Hiding::user_password
                            ? wire::reveal_password(value, opening_->request, opening_->secret)
                            : wire::reveal_salted(value, opening_->request, opening_->secret);
    if (!opened) {
      return opened.error().code == Errc::not_genuine
                 ? "(unreadable with this secret)"
                 : fmt::format("{} ({})", octets_text(value), opened.error().text);
    }
    if (definition.hiding == Hiding::user_password && wire::looks_unreadable(*opened))
      return "(unreadable with this secret)";
    Definition clear = definition;
    clear.hiding = Hiding::none;
    if (definition.hiding == Hiding::user_password || is_plain_text(*opened)) clear.type = DataType::text;
    return print_value(clear, *opened);
  }

  // Where a view stands in the packet; nothing for values that were put together from pieces.
  std::vector<Range> place_of(OctetView view) const {
    const auto at =
        reinterpret_cast<std::uintptr_t>(view.data()) - reinterpret_cast<std::uintptr_t>(octets_.data());
    if (at >= octets_.size() || view.size() > octets_.size() - at) return {};
    return {{at, view.size()}};
  }

  static bool tlvs_fill(OctetView octets) {
    std::size_t at = 0;
    while (at + 2 <= octets.size() && octets[at + 1] >= 2) at += octets[at + 1];
    return !octets.empty() && at == octets.size();
  }

  void line(const Path& path, std::string value, std::vector<Range> pieces, int depth, std::string problem) {
    const Definition* definition = catalogue_.at(path);
    Described& described = out_.emplace_back();
    described.name = definition == nullptr ? dotted(path) : definition->name;
    if (definition == nullptr && path.size() == 1) described.name = "attribute " + described.name;
    described.value = std::move(value);
    described.definition = definition;
    described.path = path;
    described.depth = depth;
    described.pieces = std::move(pieces);
    described.problem = std::move(problem);
  }

  const Catalogue& catalogue_;
  OctetView octets_;
  const Opening* opening_;
  std::vector<Described> out_;
};

}  // namespace

std::vector<Described> describe(const Catalogue& catalogue, const wire::PacketView& packet,
                                const Opening* opening) {
  return Describer(catalogue, packet.octets(), opening).run(wire::kHeader);
}

std::vector<Described> describe(const Catalogue& catalogue, OctetView attributes) {
  return Describer(catalogue, attributes, nullptr).run(0);
}

}  // namespace jembatan::dictionary
