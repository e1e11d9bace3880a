#pragma once
// From values to objects: one table of fields per kind of object drives reading and checking.
#include <chrono>
#include <optional>
#include <span>
#include <utility>

#include "base/clock.h"
#include "document/problems.h"

namespace jembatan::document {

/// Reads the values of one file. A value that is not allowed adds a problem and gives nothing; reading goes
/// on, so that all problems of a file are reported together.
class Reading {
 public:
  Reading(const File& file, Problems& problems) : file_(file), problems_(problems) {}

  std::optional<std::string> text(const Entry& entry);
  std::optional<std::int64_t> integer(const Entry& entry, std::int64_t least, std::int64_t most);
  std::optional<bool> boolean(const Entry& entry);
  std::optional<Duration> duration(const Entry& entry, Duration least, Duration most);
  /// One of the names; gives its place in the list.
  std::optional<std::size_t> choice(const Entry& entry, std::span<const std::string_view> names);
  /// One text is a list of one.
  std::vector<std::string> texts(const Entry& entry);
  /// The entry with its value as an array; nothing, with a problem added, if it is neither that nor a text.
  std::optional<Entry> list(const Entry& entry);

  /// True if the value has that kind; otherwise a problem.
  bool expect(const Entry& entry, Kind kind);

  /// A problem with an entry's value.
  void wrong(const Entry& entry, std::string text, std::string allowed = "");
  /// A problem at an offset inside an entry's text, which is known to hold no secret.
  void wrong_inside(const Entry& entry, std::size_t offset, std::size_t width, std::string text,
                    std::string allowed = "");
  void unknown_key(const Entry& entry, std::string_view owner, const std::vector<std::string>& allowed);
  void missing_key(Position at, std::string_view key, std::string_view owner, std::string_view meaning);
  void advise(Position at, std::string rule, std::string text, std::string mend);
  /// No line that is shown from now on shows what stands behind this key.
  void hide(const std::string& key) { hidden_.push_back(key); }
  const File& file() const { return file_; }

 private:
  std::string shown(Position at, const std::vector<std::string>& hidden) const;
  Position inside(const Value& text, std::size_t offset) const;
  void add(Problem problem);
  void add(Problem problem, const std::vector<std::string>& hidden);
  const File& file_;
  Problems& problems_;
  std::vector<std::string> hidden_;
};

enum class Need : std::uint8_t { optional, required };

template <class Object>
struct Field {
  std::string_view name;
  Need need;
  std::string_view meaning;  ///< for people: what it is and what is allowed
  void (*read)(Reading&, const Entry&, Object&);
};

/// Fills an object from a table.
///   owner  what the table is, for messages: "client 'kerapu-deck-2'"
template <class Object>
void read_fields(Reading& reading, const Value& table, std::string_view owner,
                 std::span<const Field<Object>> fields, Object& out) {
  for (const Entry& entry : table.entries) {
    const Field<Object>* known = nullptr;
    for (const Field<Object>& field : fields) known = field.name == entry.key ? &field : known;
    if (known != nullptr) {
      known->read(reading, entry, out);
      continue;
    }
    std::vector<std::string> names;
    for (const Field<Object>& field : fields) names.emplace_back(field.name);
    reading.unknown_key(entry, owner, names);
  }
  for (const Field<Object>& field : fields) {
    if (field.need == Need::required && table.find(field.name) == nullptr) {
      reading.missing_key(table.at, field.name, owner, field.meaning);
    }
  }
}

}  // namespace jembatan::document
