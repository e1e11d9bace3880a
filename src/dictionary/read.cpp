#include "dictionary/read.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <stdexcept>

#include "base/embedded.h"
#include "base/text.h"
#include "dictionary/layout.h"
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
constexpr std::array<std::string_view, 4> kPresences{"0", "0-1", "0+", "1"};
constexpr std::array<Presence, 4> kPresenceValues{Presence::never, Presence::at_most_once,
                                                  Presence::any_number, Presence::exactly_once};

void read_type(Reading& reading, const Entry& entry, Definition& out) {
  const auto& names = data_type_names();
  const std::vector<std::string_view> views(names.begin(), names.end());
  if (const auto found = reading.choice(entry, views)) out.type = *data_type_named(names[*found]);
}

// A whole number, or numbers with dots for what stands inside another attribute.
void read_number(Reading& reading, const Entry& entry, Definition& out) {
  if (entry.value.kind == Kind::text) {
    const auto path = parse_path(entry.value.text);
    if (path) {
      out.path = *path;
    } else {
      reading.wrong(entry, fmt::format("'number' is '{}'", escaped(entry.value.text)), "like 5 or \"5.1\"");
    }
  } else if (const auto number = reading.integer(entry, 1, 0xFFFFFFFF)) {
    out.path = {static_cast<std::uint32_t>(*number)};
  }
}

// The row of the RFC's table: Request Accept Reject Challenge Accounting.
void read_presence(Reading& reading, const Entry& entry, Definition& out) {
  const auto text = reading.text(entry);
  if (!text) return;
  const auto columns = split(*text, ' ');
  bool good = columns.size() == kColumns;
  for (std::size_t i = 0; good && i < kColumns; ++i) {
    const auto known = std::find(kPresences.begin(), kPresences.end(), columns[i]);
    good = known != kPresences.end();
    if (good) out.presence[i] = kPresenceValues[static_cast<std::size_t>(known - kPresences.begin())];
  }
  if (!good) {
    reading.wrong(entry, fmt::format("'packets' is '{}'", escaped(*text)),
                  "five of 0, 0-1, 0+, 1: request accept reject challenge accounting");
  }
}

const Field<Definition> kAttributeFields[] = {
    {"name", Need::required, "the attribute's name: letters, digits, '-', '_', '.'",
     [](Reading& r, const Entry& e, Definition& d) {
       const std::string name = r.text(e).value_or("");
       const bool good =
           !name.empty() && name.size() <= 100 && !parse_path(name) &&
           name.find_first_not_of("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_.") ==
               std::string::npos;
       if (good) {
         d.name = name;
       } else if (e.value.kind == Kind::text) {
         r.wrong(e, fmt::format("'name' is '{}'", escaped(name)),
                 "letters, digits, '-', '_', '.', but no number");
       }
     }},
    {"number", Need::required,
     "1 to 255 (as wide as the vendor's type field), or \"5.1\" for number 1 inside a tlv with number 5",
     read_number},
    {"type", Need::required, "a data type of RFC 8044", read_type},
    {"tagged", Need::optional, "true if a tag may stand in front (RFC 2868)",
     [](Reading& r, const Entry& e, Definition& d) { d.tagged = r.boolean(e).value_or(false); }},
    {"hidden", Need::optional, "how the value is hidden: user-password (RFC 2865) or salted (RFC 2868)",
     [](Reading& r, const Entry& e, Definition& d) {
       if (const auto found = r.choice(e, kHidings))
         d.hiding = *found == 0 ? Hiding::user_password : Hiding::salted;
     }},
    {"packets", Need::optional,
     "how often it may stand in request, accept, reject, challenge, accounting: \"0-1 0+ 0 0 0+\"",
     read_presence},
    {"source", Need::optional, "the document that defines it, if not that of the file",
     [](Reading& r, const Entry& e, Definition& d) { d.source = r.text(e).value_or(d.source); }},
};

std::uint8_t read_width(Reading& r, const Entry& e, std::initializer_list<int> allowed,
                        std::uint8_t fallback) {
  const auto number = r.integer(e, 0, 4);
  if (number && std::find(allowed.begin(), allowed.end(), static_cast<int>(*number)) == allowed.end()) {
    r.wrong(e, fmt::format("'{}' is {}", e.key, *number), fmt::format("{}", fmt::join(allowed, ", ")));
    return fallback;
  }
  return static_cast<std::uint8_t>(number.value_or(fallback));
}

const Field<Vendor> kVendorFields[] = {
    {"name", Need::required, "the vendor's name",
     [](Reading& r, const Entry& e, Vendor& v) { v.name = r.text(e).value_or(""); }},
    {"number", Need::required, "its private enterprise number",
     [](Reading& r, const Entry& e, Vendor& v) {
       v.number = static_cast<std::uint32_t>(r.integer(e, 1, 0xFFFFFF).value_or(0));
     }},
    {"type_octets", Need::optional, "width of its type field: 1 (default), 2 or 4",
     [](Reading& r, const Entry& e, Vendor& v) {
       v.type_octets = read_width(r, e, {1, 2, 4}, 1);
     }},
    {"length_octets", Need::optional, "width of its length field: 0, 1 (default) or 2",
     [](Reading& r, const Entry& e, Vendor& v) {
       v.length_octets = read_width(r, e, {0, 1, 2}, 1);
     }},
};

// One dictionary file: attributes, in the standard space or a vendor's, and names for their values.
class FileReader {
 public:
  FileReader(Catalogue& catalogue, const document::File& file, document::Problems& problems)
      : catalogue_(catalogue), file_(file), reading_(file, problems) {}

  void read() {
    if (const document::Value* source = file_.root.find("source")) source_ = source->text;
    for (const Entry& entry : file_.root.entries) {
      if (entry.key == "vendor") read_vendor(entry);
    }
    for (const Entry& entry : file_.root.entries) {
      if (entry.key == "attribute") read_attributes(entry);
    }
    for (const Entry& entry : file_.root.entries) {
      if (entry.key == "values") {
        read_values(entry);
      } else if (entry.key != "attribute" && entry.key != "source" && entry.key != "vendor") {
        reading_.unknown_key(entry, "a dictionary", {"attribute", "source", "values", "vendor"});
      }
    }
  }

 private:
  std::string place(document::Position at) const { return fmt::format("{}:{}", file_.name, at.line); }

  void read_vendor(const Entry& entry) {
    if (!reading_.expect(entry, Kind::table)) return;
    document::read_fields<Vendor>(reading_, entry.value, "vendor", kVendorFields, vendor_);
    vendor_.place = place(entry.at);
    if (vendor_.number == 0) return;
    // Several files may hold attributes of one vendor, if they agree on how it writes them.
    const Vendor* known = catalogue_.vendor(vendor_.number);
    if (known != nullptr && known->type_octets == vendor_.type_octets &&
        known->length_octets == vendor_.length_octets) {
      return;
    }
    if (const Status added = catalogue_.add(vendor_); !added) reading_.wrong(entry, added.error().text);
  }

  void read_attributes(const Entry& entry) {
    if (!reading_.expect(entry, Kind::array)) return;
    for (const document::Value& item : entry.value.items) {
      Definition definition;
      definition.source = source_.empty() ? file_.name : source_;
      definition.place = place(item.at);
      const Entry whole{entry.key, item.at, item};
      if (!reading_.expect(whole, Kind::table)) continue;
      document::read_fields<Definition>(reading_, item, "attribute", kAttributeFields, definition);
      if (definition.name.empty() || definition.path.empty()) continue;
      place_in_space(definition.path);
      const std::string problem = problem_with(definition);
      if (!problem.empty()) {
        reading_.wrong(whole, problem);
      } else if (const Status added = catalogue_.add(std::move(definition)); !added) {
        reading_.wrong(whole, added.error().text);
      }
    }
  }

  // Numbers in a vendor's file count from 26.VENDOR, but for those that name an extended space themselves.
  void place_in_space(Path& path) const {
    if (vendor_.number != 0 && !is_evs(path)) path.insert(path.begin(), {kVendorSpecific, vendor_.number});
  }

  // Each number must fit its field, and what stands inside must stand inside something that can hold it.
  std::string problem_with(const Definition& definition) const {
    const Path& path = definition.path;
    const bool vendors = is_vendors(path);
    const std::size_t own_vendor = vendors ? 1 : is_evs(path) ? 2 : path.size();
    for (std::size_t i = 0; i < path.size(); ++i) {
      if (i == own_vendor) continue;
      const bool wide = vendors && i == 2;
      const std::uint64_t most = wide ? (std::uint64_t{1} << (8U * vendor_.type_octets)) - 1 : 255;
      if (path[i] > most || path[i] == 0) {
        return fmt::format("number {} of '{}' does not fit its field; allowed: 1 to {}", path[i],
                           definition.name, most);
      }
    }
    if (path.size() <= (vendors ? 3U : is_evs(path) ? 4U : 1U)) return "";
    const Path outer(path.begin(), path.end() - 1);
    const Definition* holder = catalogue_.at(outer);
    if (holder == nullptr) {
      return fmt::format("'{}' stands inside attribute {}, which is not defined before it", definition.name,
                         dotted(outer));
    }
    if (holder->type == DataType::tlv || holder->type == DataType::extended ||
        holder->type == DataType::long_extended) {
      return "";
    }
    return fmt::format("'{}' stands inside '{}', which is of type {} and holds no others", definition.name,
                       holder->name, name_of(holder->type));
  }

  void read_values(const Entry& entry) {
    if (!reading_.expect(entry, Kind::table)) return;
    for (const Entry& attribute : entry.value.entries) {
      Definition* definition = catalogue_.to_extend(attribute.key);
      if (definition == nullptr) {
        reading_.unknown_key(attribute, "values", catalogue_.names());
        continue;
      }
      if (!reading_.expect(attribute, Kind::table)) continue;
      for (const Entry& value : attribute.value.entries) {
        const auto number = reading_.integer(value, 0, 0xFFFFFFFF);
        if (!number) continue;
        if (const NamedValue* taken = definition->value_named(value.key)) {
          reading_.wrong(value, fmt::format("value '{}' of {} is {} already", value.key, definition->name,
                                            taken->number));
          continue;
        }
        definition->values.push_back({value.key, static_cast<std::uint32_t>(*number)});
      }
    }
  }

  Catalogue& catalogue_;
  const document::File& file_;
  Reading reading_;
  std::string source_;
  Vendor vendor_;
};

}  // namespace

void read_into(Catalogue& catalogue, const document::File& file, document::Problems& problems) {
  FileReader(catalogue, file, problems).read();
}

const CataloguePtr& standard_catalogue() {
  static const CataloguePtr catalogue = [] {
    auto out = std::make_shared<Catalogue>();
    document::Problems problems;
    for (const EmbeddedFile& embedded : standard_dictionaries()) {
      const auto file = document::parse(std::string(embedded.name), embedded.text, problems);
      if (file) read_into(*out, *file, problems);
    }
    if (problems.errors() > 0) throw std::logic_error("standard dictionaries: " + problems.text());
    return out;
  }();
  return catalogue;
}

CataloguePtr read_catalogue(const std::filesystem::path& path, document::Problems& problems) {
  std::error_code ignored;
  std::vector<std::filesystem::path> files;
  if (std::filesystem::is_directory(path, ignored)) {
    for (const auto& entry : std::filesystem::directory_iterator(path, ignored)) {
      if (entry.path().extension() == ".toml") files.push_back(entry.path());
    }
    std::sort(files.begin(), files.end());
  } else if (std::filesystem::exists(path, ignored)) {
    files.push_back(path);
  }
  if (files.empty()) return standard_catalogue();
  auto out = std::make_shared<Catalogue>(standard());
  for (const auto& name : files) {
    const std::string shown = name.filename().string();
    const auto text = document::read_file(name);
    if (!text) {
      problems.add({document::Level::error, shown, {}, text.error().text, "", "", 1});
    } else if (const auto file = document::parse(shown, *text, problems)) {
      read_into(*out, *file, problems);
    }
  }
  return out;
}

std::vector<std::pair<std::string, std::string_view>> dictionary_key_meanings() {
  std::vector<std::pair<std::string, std::string_view>> out;
  for (const auto& field : kVendorFields)
    out.emplace_back(fmt::format("vendor.{}", field.name), field.meaning);
  for (const auto& field : kAttributeFields)
    out.emplace_back(fmt::format("attribute.{}", field.name), field.meaning);
  return out;
}

}  // namespace jembatan::dictionary
