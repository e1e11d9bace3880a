#pragma once
#include "dictionary/catalogue.h"
#include "wire/packet.h"

namespace jembatan::decide {

/// A copy of a packet whose attributes are changed one by one. Attributes that are not touched stay as they
/// are, byte for byte and in their order.
class PacketEdit {
 public:
  PacketEdit(const wire::PacketView& packet, const dictionary::Catalogue& catalogue);

  /// The values of an attribute, without tags.
  std::vector<Octets> values(const dictionary::Definition& attribute) const;
  /// Takes all of an attribute away; inside Vendor-Specific it alone.
  ///   returns  where the first stood; npos if there was none
  std::size_t remove(const dictionary::Definition& attribute);
  /// Puts whole attributes in at an offset that remove() gave, or at the end.
  ///   errors  Errc::too_long: the packet would exceed 4096 octets; it stays as it was
  Status insert(std::size_t at, OctetView attributes);

  wire::PacketView view() const { return *wire::PacketView::parse(octets_); }
  Octets take() { return std::move(octets_); }
  static constexpr std::size_t npos = ~std::size_t{0};

 private:
  void set_length();
  const dictionary::Catalogue& catalogue_;
  Octets octets_;
};

/// The packet with another User-Name; nothing if it is empty, or does not fit.
std::optional<Octets> with_user_name(const wire::PacketView& packet, std::string_view name,
                                     const dictionary::Catalogue& catalogue);

}  // namespace jembatan::decide
