#include "dictionary/read.h"

#include <fmt/format.h>

#include <stdexcept>

#include "base/embedded.h"
#include "base/text.h"
#include "document/parse.h"
#include "document/reading.h"

namespace jembatan::dictionary {
namespace {

using document::Entry;
using document::Field;
using document::Kind;
using document::Need;
using document::Reading;

constexpr std::array<std::string_view, 2> kHidings{"user-password", "salted"};

void read_type(Reading& reading, const Entry& entry, Definition& out) {
  const auto& names = data_type_names();
  const std::vector<std::string_view> views(names.begin(), names.end());
  if (const auto found = reading.choice(entry, views)) out.type = *data_type_named(names[*found]);
}

const Field<Definition> kAttributeFields[] = {
    {"name", Need::required, "the attribute's name",
     [](Reading& r, const Entry& e, Definition& d) { d.name = r.text(e).value_or(""); }},
    {"number", Need::required, "1 to 255",
     [](Reading& r, const Entry& e, Definition& d) {
       d.number = static_cast<std::uint8_t>(r.integer(e, 1, 255).value_or(0));
     }},
    {"type", Need::required, "a data type of RFC 8044", read_type},
    {"tagged", Need::optional, "true if a tag may stand in front (RFC 2868)",
     [](Reading& r, const Entry& e, Definition& d) { d.tagged = r.boolean(e).value_or(false); }},
    {"hidden", Need::optional, "how the value is hidden: user-password, salted",
     [](Reading& r, const Entry& e, Definition& d) {
       if (const auto found = r.choice(e, kHidings)) {
         d.hiding = *found == 0 ? Hiding::user_password : Hiding::salted;
       }
     }},
};

void read_attributes(Reading& reading, const Entry& entry, const std::string& source, Catalogue& catalogue) {
  if (!reading.expect(entry, Kind::array)) return;
  for (const document::Value& item : entry.value.items) {
    Definition definition;
    definition.source = source;
    document::read_fields<Definition>(reading, item, "attribute", kAttributeFields, definition);
    if (definition.name.empty() || definition.number == 0) continue;
    if (const Status added = catalogue.add(std::move(definition)); !added) {
      reading.wrong({entry.key, item.at, item}, added.error().text);
    }
  }
}

void read_values(Reading& reading, const Entry& entry, Catalogue& catalogue) {
  if (!reading.expect(entry, Kind::table)) return;
  for (const Entry& attribute : entry.value.entries) {
    Definition* definition = catalogue.to_extend(attribute.key);
    if (definition == nullptr) {
      reading.unknown_key(attribute, "values", catalogue.names());
      continue;
    }
    for (const Entry& value : attribute.value.entries) {
      const auto number = reading.integer(value, 0, 0xFFFFFFFF);
      if (number) definition->values.push_back({value.key, static_cast<std::uint32_t>(*number)});
    }
  }
}

}  // namespace

void read_into(Catalogue& catalogue, const document::File& file, document::Problems& problems) {
  Reading reading(file, problems);
  const document::Value* source = file.root.find("source");
  const std::string name = source != nullptr ? source->text : file.name;
  for (const Entry& entry : file.root.entries) {
    if (entry.key == "attribute") read_attributes(reading, entry, name, catalogue);
  }
  for (const Entry& entry : file.root.entries) {
    if (entry.key == "values") {
      read_values(reading, entry, catalogue);
    } else if (entry.key != "attribute" && entry.key != "source") {
      reading.unknown_key(entry, "a dictionary", {"attribute", "source", "values"});
    }
  }
}

const Catalogue& standard() {
  static const Catalogue catalogue = [] {
    Catalogue out;
    document::Problems problems;
    for (const EmbeddedFile& embedded : standard_dictionaries()) {
      const auto file = document::parse(std::string(embedded.name), embedded.text, problems);
      if (file) read_into(out, *file, problems);
    }
    if (problems.errors() > 0) throw std::logic_error("standard dictionaries: " + problems.text());
    return out;
  }();
  return catalogue;
}

}  // namespace jembatan::dictionary
