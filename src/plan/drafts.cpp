// The sections of a plan's files, object by object.
#include "plan/drafts.h"

#include <fmt/format.h>

namespace jembatan::plan {
namespace {

using document::Entry;
using document::Field;
using document::Kind;
using document::Reading;

class DraftReader {
 public:
  DraftReader(const FileOf& file, const Context& context, document::Problems& problems, Drafts& out)
      : files_(file.files),
        number_(file.number),
        context_(context),
        reading_(file.files[file.number], problems),
        out_(out) {}

  void read_section(const Entry& section) {
    if (section.key == "client") {
      read_all(section, client_fields(), out_.clients);
    } else if (section.key == "user") {
      read_all(section, user_fields(), out_.users);
    } else if (section.key == "directory") {
      read_all(section, directory_fields(), out_.directories);
    } else if (section.key == "factor") {
      read_all(section, factor_fields(), out_.factors);
    } else if (section.key == "enrolment") {
      read_all(section, enrolment_fields(), out_.enrolments);
    } else if (section.key == "realm") {
      read_all(section, realm_fields(), out_.realms);
    } else if (section.key == "group") {
      read_all(section, group_fields(), out_.groups);
    } else if (section.key == "route") {
      read_all(section, route_fields(), out_.routes);
    } else if (section.key == "access") {
      read_all(section, access_fields(), out_.access);
    } else if (section.key == "reply_set") {
      read_all(section, reply_set_fields(), out_.reply_sets);
    } else if (section.key == "edit") {
      read_all(section, edit_fields(), out_.edits);
    } else if (section.key == "realm_default") {
      read_single(section, realm_default_fields(), out_.realm_default);
    } else if (section.key == "sign_in") {
      read_single(section, sign_in_fields(), out_.sign_in);
    } else {
      reading_.unknown_key(section, "a plan",
                           {"access", "client", "directory", "edit", "enrolment", "factor", "group", "realm",
                            "realm_default", "reply_set", "route", "sign_in", "user"});
    }
  }

 private:
  template <class Object>
  void read_all(const Entry& section, std::span<const Field<Draft<Object>>> fields,
                std::deque<Draft<Object>>& out) {
    if (section.value.kind != Kind::array) {
      reading_.wrong(section, fmt::format("'{}' is {}", section.key, document::name_of(section.value.kind)),
                     fmt::format("[[{}]] tables", section.key));
      return;
    }
    for (const document::Value& item : section.value.items) {
      if (item.kind != Kind::table) {
        reading_.wrong({section.key, item.at, item},
                       fmt::format("'{}' holds {}", section.key, document::name_of(item.kind)),
                       fmt::format("[[{}]] tables", section.key));
        continue;
      }
      out.push_back({context_, number_, item.at, {}});
      document::read_fields(reading_, item, owner_text(section.key, item), fields, out.back());
    }
  }

  // A section that stands once.
  template <class Object>
  void read_single(const Entry& section, std::span<const Field<Draft<Object>>> fields,
                   std::optional<Draft<Object>>& out) {
    if (!reading_.expect(section, Kind::table)) return;
    if (out) {
      reading_.wrong(section, fmt::format("{} stands at {} already", section.key, place(*out)));
      return;
    }
    out.emplace(Draft<Object>{context_, number_, section.at, {}});
    document::read_fields(reading_, section.value, section.key, fields, *out);
  }

  template <class Object>
  std::string place(const Draft<Object>& draft) const {
    return fmt::format("{}:{}", files_[draft.file].name, draft.at.line);
  }

  const std::vector<document::File>& files_;
  std::size_t number_;
  const Context& context_;
  Reading reading_;
  Drafts& out_;
};

}  // namespace

void read_drafts(const FileOf& file, const Context& context, document::Problems& problems, Drafts& out) {
  DraftReader reader(file, context, problems, out);
  for (const Entry& section : file.files[file.number].root.entries) reader.read_section(section);
}

}  // namespace jembatan::plan
