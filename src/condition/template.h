#pragma once
// Text with places that are filled in from a request: "{user}-{client.label.place}".
#include <optional>

#include "condition/condition.h"

namespace jembatan::condition {

/// Checked once against a catalogue, which must outlive it; filled in for each request.
class Template {
 public:
  /// True if the text has a place to fill in: a name in braces, without a space.
  static bool has_places(std::string_view source);

  /// Reads a text. A place is {user}, {realm}, {client}, {listener}, {method}, {code}, {route}, {group},
  /// {server}, {client.label.KEY}, {directory.NAME}, {match.NAME} for a named group of a pattern, or
  /// {ATTRIBUTE}; "{{" stands for a bracket.
  ///   mistakes  everything that is wrong, with offsets into the text
  static std::optional<Template> parse(std::string_view source, const dictionary::Catalogue& catalogue,
                                       std::vector<Mistake>& mistakes);

  /// The text with its places filled in.
  ///   returns  nothing if one of them has no value; `missing` then names it
  std::optional<std::string> fill(const Facts& facts, const Captures& captures, std::string& missing) const;

  /// The attributes that its places name.
  std::vector<const dictionary::Definition*> attributes() const;
  /// True if it has a place {match.NAME}.
  bool uses_captures() const;

 private:
  struct Part {
    std::string text;  ///< as it stands, or the name of the place
    bool place = false;
    Fact fact{};
    const dictionary::Definition* attribute = nullptr;
    std::string key;  ///< of a fact that has one
    std::string capture;
  };
  static std::optional<std::string> value_of(const Part& part, const Facts& facts, const Captures& captures);
  std::vector<Part> parts_;
};

}  // namespace jembatan::condition
