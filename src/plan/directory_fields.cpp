// Directories of people: their fields.
#include <fmt/format.h>

#include <array>

#include "base/text.h"
#include "identity/directory_filter.h"
#include "plan/assignments.h"
#include "plan/draft.h"
#include "plan/field_values.h"
#include "plan/names.h"

namespace jembatan::plan {
namespace {

using namespace std::chrono_literals;
using document::Entry;
using document::Field;
using document::Kind;
using document::Need;
using document::Reading;

constexpr std::array<std::string_view, 2> kEncryption{"starttls", "none"};
constexpr std::array<std::string_view, 3> kScope{"base", "one", "subtree"};
constexpr std::array<std::string_view, 2> kWhenSilent{"refuse", "ignore"};
constexpr std::size_t kMostDirectoryServers = 16;
constexpr std::size_t kMostAttributes = 64;

// A short attribute name (RFC 4512 §1.4: descr), with options or not.
bool is_attribute(std::string_view text) {
  static constexpr std::string_view kAllowed =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-;.";
  return !text.empty() && text.size() <= 100 && text.find_first_not_of(kAllowed) == std::string_view::npos;
}

std::string read_attribute(Reading& r, const Entry& e) {
  auto text = r.text(e);
  if (!text) return {};
  if (!is_attribute(*text))
    r.wrong(e, fmt::format("'{}' is '{}'", e.key, escaped(*text)), "the name of an attribute, like memberOf");
  return *text;
}

std::string read_filter(Reading& r, const Entry& e, const std::vector<std::string>& places) {
  auto text = r.text(e);
  if (!text) return {};
  const std::string mistake = identity::mistake_in_filter(*text, places);
  if (mistake.empty()) return *text;
  std::vector<std::string> names;
  for (const std::string& place : places) names.push_back("{" + place + "}");
  r.wrong(e, fmt::format("'{}': {}", e.key, mistake),
          "a filter of RFC 4515, with " + join(names, ", ") + " for whoever it is");
  return {};
}

void read_directory_servers(Reading& r, const Entry& e, Directory& directory) {
  const auto texts = r.texts(e);
  if (texts.empty()) r.wrong(e, "'servers' has none", "one or more LDAP URLs");
  for (const std::string& text : texts) {
    auto server = directory_server(text);
    if (!server) {
      r.wrong(e, fmt::format("'servers': {}", server.error().text));
    } else {
      directory.access.servers.push_back(std::move(*server));
    }
  }
  if (directory.access.servers.size() > kMostDirectoryServers)
    r.wrong(e, fmt::format("'servers' has {} of them", directory.access.servers.size()),
            fmt::format("at most {}", kMostDirectoryServers));
}

void read_passwords(Reading& r, const Entry& e, Directory& directory) {
  constexpr std::string_view kForms = "bind, { nt = \"ATTRIBUTE\" } or { clear = \"ATTRIBUTE\" }";
  if (e.value.kind != Kind::table) {
    const auto text = r.text(e);
    if (text && *text != "bind")
      r.wrong(e, fmt::format("'passwords' is '{}'", escaped(*text)), std::string(kForms));
    return;
  }
  if (e.value.entries.size() != 1)
    return r.wrong(e, fmt::format("'passwords' has {}", counted(e.value.entries.size(), "key")),
                   std::string(kForms));
  const Entry& form = e.value.entries.front();
  if (form.key != "nt" && form.key != "clear") return r.unknown_key(form, "passwords", {"nt", "clear"});
  directory.passwords = form.key == "nt" ? Directory::Passwords::nt : Directory::Passwords::clear;
  directory.kept_password = read_attribute(r, form);
}

const Field<DirectoryDraft> kDirectory[] = {
    {"name", Need::required, "the name that realms call it by",
     [](Reading& r, const Entry& e, DirectoryDraft& d) { d.object.directory.name = read_name(r, e); }},
    {"servers", Need::required,
     "LDAP URLs (RFC 4516) like ldaps://ldap-1.reef.example or ldap://192.0.2.7:389, an array; the first "
     "that "
     "answers is asked",
     [](Reading& r, const Entry& e, DirectoryDraft& d) { read_directory_servers(r, e, d.object.directory); }},
    {"encryption", Need::optional,
     "of ldap:// servers: starttls (default, RFC 4511 §4.14) or none: passwords travel in the clear",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.access.plain = r.choice(e, kEncryption).value_or(0) == 1;
     }},
    {"authorities", Need::optional,
     "a file with the certificates (PEM) of those whose signature on the server's certificate counts, by its "
     "whole path on the node; default: those of the system",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       auto text = r.text(e);
       if (!text) return;
       if (!text->starts_with('/'))
         return r.wrong(e, fmt::format("'authorities' is '{}'", escaped(*text)),
                        "a path that begins with '/'");
       d.object.directory.access.authorities = std::move(*text);
     }},
    {"account", Need::optional,
     "the distinguished name (RFC 4514) that searches, like cn=jembatan,ou=services,dc=reef,dc=example; "
     "default: nobody in particular",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.access.account = r.text(e).value_or("");
     }},
    {"secret", Need::optional, "the account's password: text, { file = \"PATH\" } or { env = \"VARIABLE\" }",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.has_secret = true;
       d.object.directory.access.secret = read_secret(r, e, d.context.outside).value_or(Secret{});
     }},
    {"base", Need::required, "the entry below which people are, like ou=crew,dc=reef,dc=example",
     [](Reading& r, const Entry& e, DirectoryDraft& d) { d.object.directory.base = r.text(e).value_or(""); }},
    {"scope", Need::optional, "how far below: subtree (default), one level, or base: that entry itself",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.scope = static_cast<Directory::Scope>(r.choice(e, kScope).value_or(2));
     }},
    {"filter", Need::required,
     "which of the entries is the person (RFC 4515): \"(uid={user})\"; {user}: without the realm, {realm}, "
     "{name}: with it",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.filter = read_filter(r, e, {"user", "realm", "name"});
     }},
    {"passwords", Need::optional,
     "how a password is proved: bind (default): the directory does, for PAP; { nt = \"ATTRIBUTE\" } or { "
     "clear = "
     "\"ATTRIBUTE\" }: the directory gives out what the node compares, for MS-CHAP and CHAP, too",
     [](Reading& r, const Entry& e, DirectoryDraft& d) { read_passwords(r, e, d.object.directory); }},
    {"member_of", Need::optional,
     "the attribute of a person that names the groups, like memberOf; a distinguished name counts by its "
     "first "
     "part",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.member_of = read_attribute(r, e);
     }},
    {"group_base", Need::optional, "the entry below which groups are, if they are to be searched for",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.group_base = r.text(e).value_or("");
     }},
    {"group_filter", Need::optional,
     "which of the groups somebody is in; default \"(member={dn})\"; {dn}: the person's, or the group's when "
     "groups are in groups, {user}, {realm}, {name}",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.group_filter = read_filter(r, e, {"dn", "user", "realm", "name"});
     }},
    {"group_name", Need::optional, "the attribute of a group that has its name; default cn",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.group_name = read_attribute(r, e);
     }},
    {"nested", Need::optional, "how many levels of groups in groups count, 0 (default) to 8",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.nested = static_cast<unsigned>(r.integer(e, 0, 8).value_or(0));
     }},
    {"attributes", Need::optional,
     "attributes of a person that conditions and replies may look at as directory.NAME, an array",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       for (std::string& text : r.texts(e)) {
         if (is_attribute(text)) {
           d.object.directory.attributes.push_back(std::move(text));
         } else {
           r.wrong(e, fmt::format("'attributes' holds '{}'", escaped(text)),
                   "names of attributes, like title");
         }
       }
       if (d.object.directory.attributes.size() > kMostAttributes)
         r.wrong(e, fmt::format("'attributes' has {} of them", d.object.directory.attributes.size()),
                 fmt::format("at most {}", kMostAttributes));
     }},
    {"reply", Need::optional,
     "a table of attributes for the Access-Accept of its people: { Filter-Id = \"{directory.title}\" }",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.reply = read_assignments(r, e, d.context, AssignedIn::accept);
     }},
    {"answer_within", Need::optional, "how long each question may take, 100ms to 30s; default 3s",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.access.answer_within = r.duration(e, 100ms, 30s).value_or(3s);
     }},
    {"connections", Need::optional, "how many people are looked up at the same time, 1 to 64; default 4",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.connections = static_cast<std::size_t>(r.integer(e, 1, 64).value_or(4));
     }},
    {"keep", Need::optional,
     "how long it is remembered who somebody is and in which groups, 0s to 24h; default 5m; passwords are "
     "always asked for",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.keep = r.duration(e, 0s, 24h).value_or(5min);
     }},
    {"when_silent", Need::optional,
     "what the client gets if no server answers: refuse (default), or ignore: it may ask another node",
     [](Reading& r, const Entry& e, DirectoryDraft& d) {
       d.object.directory.silent_refuses = r.choice(e, kWhenSilent).value_or(0) == 0;
     }},
};

}  // namespace

std::span<const Field<DirectoryDraft>> directory_fields() {
  return kDirectory;
}

}  // namespace jembatan::plan
