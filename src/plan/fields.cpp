#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
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

identity::StoredPassword read_password(Reading& r, const Entry& e, const Outside& outside) {
  if (e.value.kind != Kind::table || e.value.entries.size() != 1) {
    r.wrong(e, fmt::format("'password' is {}", document::name_of(e.value.kind)),
            "{ hash = \"$y$…\" } or { clear = \"…\" }; each may also name a { file = \"PATH\" } or { env = "
            "\"VARIABLE\" }");
    return {};
  }
  const Entry& form = e.value.entries.front();
  if (form.key != "clear" && form.key != "hash" && form.key != "nt") {
    r.unknown_key(form, "password", {"clear", "hash", "nt"});
    return {};
  }
  auto secret = read_secret(r, form, outside);
  if (!secret) return {};
  using Form = identity::StoredPassword::Form;
  if (is_kept(form.value) && !outside.kept)
    return identity::StoredPassword::elsewhere(form.key == "clear" ? Form::clear
                                               : form.key == "nt"  ? Form::nt
                                                                   : Form::hash);
  if (form.key == "clear") return identity::StoredPassword::clear(std::move(*secret));
  auto hash = form.key == "nt" ? identity::StoredPassword::nt(*secret)
                               : identity::StoredPassword::hash(std::move(*secret));
  if (hash) return *hash;
  r.wrong(form, fmt::format("'{}' is {}", form.key, hash.error().text));
  return {};
}

// A prefix, or a host name (RFC 1123 §2.1) whose address is looked up when the plan is put into force.
void read_client_address(Reading& r, const Entry& e, ClientDraft& d) {
  const auto text = r.text(e);
  if (!text) return;
  const auto prefix = Prefix::parse(*text);
  if (prefix) {
    d.object.client.address = *prefix;
    d.object.has_address = true;
  } else if (is_host_name(*text)) {
    d.object.client.host = *text;
    d.object.address = e;
  } else {
    r.wrong(e, fmt::format("'address': {}", prefix.error().text),
            "an address, a prefix like 192.0.2.0/24, or a host name");
  }
}

void read_listeners(Reading& r, const Entry& e, Client& client) {
  for (const std::string& text : r.texts(e)) {
    if (text == "access" || text == "accounting" || text == "authorization") {
      client.listeners.push_back(text);
    } else if (const auto endpoint = Endpoint::parse(text, 0); endpoint && endpoint->port != 0) {
      client.listeners.push_back(endpoint->text());
    } else {
      r.wrong(e, fmt::format("'listeners' holds '{}'", escaped(text)),
              "access, accounting, authorization, or a local address with its port, like 192.0.2.1:1812");
    }
  }
}

std::vector<std::string> read_realms_of_sessions(Reading& r, const Entry& e) {
  std::vector<std::string> out;
  for (std::string& text : r.texts(e)) {
    if (text == kAllRealms || is_realm_pattern(text)) {
      out.push_back(std::move(text));
    } else {
      r.wrong(e, fmt::format("'{}' holds '{}'", e.key, escaped(text)),
              "realms like reef.example, *.islands.example for all below, or * for all users");
    }
  }
  return out;
}

const Field<ClientDraft> kClient[] = {
    {"name", Need::required, "the name that people know the client by",
     [](Reading& r, const Entry& e, ClientDraft& d) { d.object.client.name = read_name(r, e); }},
    {"address", Need::required,
     "an address, a prefix like 192.0.2.0/24, or a host name; the longest prefix wins", read_client_address},
    {"resolved", Need::optional,
     "the address that the host name has; written by the node when the plan is put into force",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       read_parsed(r, e, &IpAddress::parse, d.object.resolved.emplace());
     }},
    {"secret", Need::required, "the shared secret: text, { file = \"PATH\" } or { env = \"VARIABLE\" }",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       d.object.client.secret = read_shared_secret(r, e, d.context.outside);
     }},
    {"old_secret", Need::optional, "the secret before, still valid while the other side is changed",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       d.object.client.old_secret =
           std::make_shared<const wire::SharedSecret>(read_shared_secret(r, e, d.context.outside));
     }},
    {"old_secret_until", Need::optional,
     "until when the old secret is valid, like 2026-12-01T00:00:00Z; default: until it is taken away",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       read_parsed(r, e, &parse_time, d.object.client.old_secret_until.emplace());
     }},
    {"labels", Need::optional, "a table of texts, like { place = \"reef/kerapu\", kind = \"wireless\" }",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       if (!r.expect(e, Kind::table)) return;
       for (const Entry& label : e.value.entries) {
         if (const auto text = r.text(label)) d.object.client.labels[label.key] = *text;
       }
     }},
    {"note", Need::optional, "a note for people",
     [](Reading& r, const Entry& e, ClientDraft& d) { d.object.client.note = r.text(e).value_or(""); }},
    {"message_authenticator", Need::optional,
     "always (default: requests without Message-Authenticator are dropped) or if-present",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       d.object.client.message_authenticator = read_signature_rule(r, e);
     }},
    {"listeners", Need::optional,
     "where its requests may arrive: an array of access, accounting, authorization and addresses like "
     "192.0.2.1:1812; default: everywhere",
     [](Reading& r, const Entry& e, ClientDraft& d) { read_listeners(r, e, d.object.client); }},
    {"requests_per_second", Need::optional,
     "the most requests that are worked on, 1 to 1000000; what is more is dropped; default: all",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       d.object.client.requests_per_second = static_cast<std::uint32_t>(r.integer(e, 1, 1000000).value_or(0));
     }},
    {"waits", Need::optional,
     "how long the device waits for an answer with all its repeats, 1s to 5m; the check compares it with the "
     "groups' times",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       d.object.client.waits = r.duration(e, 1s, 300s).value_or(Duration{0});
     }},
    {"authorization_port", Need::optional,
     "the port at which it takes Disconnect- and CoA-Requests (RFC 5176), 3799 for most; without it, it is "
     "not asked",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       d.object.client.authorization_port = static_cast<std::uint16_t>(r.integer(e, 1, 65535).value_or(0));
     }},
    {"may_disconnect", Need::optional,
     "the realms whose sessions it may end, an array like [\"reef.example\"]; [\"*\"]: those of all users; "
     "default: none",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       d.object.client.may_disconnect = read_realms_of_sessions(r, e);
     }},
    {"may_change", Need::optional, "the same for changing them (CoA-Request)",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       d.object.client.may_change = read_realms_of_sessions(r, e);
     }},
    {"enabled", Need::optional, "true (default) or false: requests are dropped",
     [](Reading& r, const Entry& e, ClientDraft& d) {
       d.object.client.enabled = r.boolean(e).value_or(true);
     }},
};

const Field<UserDraft> kUser[] = {
    {"name", Need::required, "the name with its realm, as in sari@reef.example; letter case does not matter",
     [](Reading& r, const Entry& e, UserDraft& d) { d.object.user.name = read_name(r, e); }},
    {"password", Need::required,
     "{ hash = \"$y$…\" } (crypt(5)), { clear = \"…\" } or { nt = \"32 hexadecimal digits\" }",
     [](Reading& r, const Entry& e, UserDraft& d) {
       d.object.user.password = read_password(r, e, d.context.outside);
     }},
    {"enabled", Need::optional, "true (default) or false: the user is refused",
     [](Reading& r, const Entry& e, UserDraft& d) { d.object.user.enabled = r.boolean(e).value_or(true); }},
    {"valid_from", Need::optional, "from when the user is let in, like 2026-12-01T00:00:00Z",
     [](Reading& r, const Entry& e, UserDraft& d) {
       read_parsed(r, e, &parse_time, d.object.user.valid_from.emplace());
     }},
    {"valid_until", Need::optional, "until when the user is let in",
     [](Reading& r, const Entry& e, UserDraft& d) {
       read_parsed(r, e, &parse_time, d.object.user.valid_until.emplace());
     }},
    {"groups", Need::optional, "the groups that the user is in, an array of texts; access rules ask for them",
     [](Reading& r, const Entry& e, UserDraft& d) {
       for (std::string& text : r.texts(e)) {
         if (!is_plain_name(text)) {
           r.wrong(e, fmt::format("'groups' holds '{}'", escaped(text)),
                   "names without a space at either end");
         } else {
           d.object.user.groups.push_back(std::move(text));
         }
       }
     }},
    {"clients", Need::optional, "the clients that the user may come from, an array of names; default: all",
     [](Reading& r, const Entry& e, UserDraft& d) {
       d.object.clients = r.list(e);
       if (d.object.clients) d.object.user.clients = r.texts(*d.object.clients);
     }},
    {"reply", Need::optional,
     "a table of attributes for the Access-Accept, by dictionary name; vlan = 1 to 4094",
     [](Reading& r, const Entry& e, UserDraft& d) {
       d.object.user.reply = read_assignments(r, e, d.context, AssignedIn::accept);
     }},
};

const Field<RealmDraft> kRealm[] = {
    {"name", Need::required,
     "like reef.example, or *.islands.example for all below; labels mncNNN and mccNNN stand for any three "
     "digits",
     [](Reading& r, const Entry& e, RealmDraft& d) {
       d.object.realm.name = read_name(r, e);
       if (!d.object.realm.name.empty() && !is_realm_pattern(d.object.realm.name)) {
         r.wrong(e, fmt::format("'name' is '{}'", escaped(d.object.realm.name)),
                 "a realm like reef.example, or *.islands.example for all below");
       }
     }},
    {"aliases", Need::optional,
     "other names of the realm, an array; a name that comes with one is taken for this realm",
     [](Reading& r, const Entry& e, RealmDraft& d) {
       for (std::string& text : r.texts(e)) {
         if (is_realm_pattern(text) && text.find('*') == std::string::npos) {
           d.object.realm.aliases.push_back(std::move(text));
         } else {
           r.wrong(e, fmt::format("'aliases' holds '{}'", escaped(text)), "realms like reef-line.example");
         }
       }
       d.object.aliases = r.list(e);
     }},
    {"handle", Need::required, "here, refuse, ignore, or group:NAME",
     [](Reading& r, const Entry& e, RealmDraft& d) {
       if (r.expect(e, Kind::text)) d.object.handle = e;
     }},
    {"accounting", Need::optional,
     "an array of here and group:NAME; default: here, and the group that requests go to",
     [](Reading& r, const Entry& e, RealmDraft& d) { d.object.accounting = r.list(e); }},
    {"directory", Need::optional,
     "the directory that its people are in, besides the plan's users, who come first; with handle = \"here\"",
     [](Reading& r, const Entry& e, RealmDraft& d) {
       if (r.expect(e, Kind::text)) d.object.directory = e;
     }},
    {"strip", Need::optional, "true: the realm is taken off User-Name before forwarding; default false",
     [](Reading& r, const Entry& e, RealmDraft& d) { d.object.realm.strip = r.boolean(e).value_or(false); }},
};

const Field<RealmDefaultDraft> kRealmDefault[] = {
    {"unknown", Need::optional, "realms that no entry has: refuse (default), ignore, here, or group:NAME",
     [](Reading& r, const Entry& e, RealmDefaultDraft& d) {
       if (r.expect(e, Kind::text)) d.object.unknown = e;
     }},
    {"missing", Need::optional,
     "names without a realm: refuse (default), ignore, here, group:NAME, or { assume = \"REALM\" }",
     [](Reading& r, const Entry& e, RealmDefaultDraft& d) {
       if (e.value.kind != Kind::table) {
         if (r.expect(e, Kind::text)) d.object.missing = e;
         return;
       }
       for (const Entry& inner : e.value.entries) {
         if (inner.key != "assume") {
           r.unknown_key(inner, "missing", {"assume"});
         } else {
           d.object.realm_default.assume = read_name(r, inner);
         }
       }
     }},
    {"accounting", Need::optional,
     "of both, an array of here and group:NAME; default: here, and the group that requests go to",
     [](Reading& r, const Entry& e, RealmDefaultDraft& d) { d.object.accounting = r.list(e); }},
    {"most_hops", Need::optional,
     "how many proxies a request may have passed when it is to be forwarded, 1 to 64; default 16; beyond, it "
     "is "
     "refused as a loop",
     [](Reading& r, const Entry& e, RealmDefaultDraft& d) {
       d.object.realm_default.most_hops = static_cast<std::size_t>(r.integer(e, 1, 64).value_or(16));
     }},
};

const Field<SignInDraft> kSignIn[] = {
    {"name_forms", Need::optional,
     "how names may be written, an array; the first that fits counts: user@realm (default), realm\\user, "
     "realm/user, realm!user, realm!user@via",
     [](Reading& r, const Entry& e, SignInDraft& d) {
       const auto known = identity::name_forms();
       d.object.name_forms.clear();
       for (const std::string& text : r.texts(e)) {
         const auto found = std::find(known.begin(), known.end(), text);
         if (found == known.end()) {
           r.wrong(e, fmt::format("'name_forms' holds '{}'", escaped(text)),
                   join({known.begin(), known.end()}, ", "));
         } else {
           d.object.name_forms.push_back(static_cast<identity::NameForm>(found - known.begin()));
         }
       }
     }},
    {"slow_after", Need::optional,
     "so many wrong passwords in a row, by user, client and station, and the next is looked at after a time "
     "only, 0 "
     "to "
     "1000; default 10; 0: never",
     [](Reading& r, const Entry& e, SignInDraft& d) {
       d.object.slow_after = static_cast<std::uint32_t>(r.integer(e, 0, 1000).value_or(10));
     }},
    {"slow_at_most", Need::optional, "the longest such time, 1s to 1h; default 60s",
     [](Reading& r, const Entry& e, SignInDraft& d) {
       d.object.slow_at_most = r.duration(e, 1s, 3600s).value_or(60s);
     }},
};

template <class Object>
void add_meanings(std::vector<KeyMeaning>& out, std::string_view section,
                  std::span<const Field<Object>> fields) {
  for (const Field<Object>& field : fields) {
    out.push_back({section, field.name, field.need == Need::required, field.meaning});
  }
}

}  // namespace

std::span<const Field<ClientDraft>> client_fields() {
  return kClient;
}
std::span<const Field<UserDraft>> user_fields() {
  return kUser;
}
std::span<const Field<RealmDraft>> realm_fields() {
  return kRealm;
}
std::span<const Field<RealmDefaultDraft>> realm_default_fields() {
  return kRealmDefault;
}
std::span<const Field<SignInDraft>> sign_in_fields() {
  return kSignIn;
}

std::string owner_text(std::string_view section, const document::Value& table) {
  const document::Value* name = table.find("name");
  if (name == nullptr || name->kind != Kind::text) return fmt::format("a {}", section);
  return fmt::format("{} '{}'", section, escaped(name->text));
}

std::vector<KeyMeaning> key_meanings() {
  std::vector<KeyMeaning> out;
  add_meanings(out, "client", client_fields());
  add_meanings(out, "user", user_fields());
  add_meanings(out, "directory", directory_fields());
  add_meanings(out, "factor", factor_fields());
  add_meanings(out, "enrolment", enrolment_fields());
  add_meanings(out, "realm", realm_fields());
  add_meanings(out, "realm_default", realm_default_fields());
  add_meanings(out, "sign_in", sign_in_fields());
  add_meanings(out, "group", group_fields());
  add_meanings(out, "group.server", server_fields());
  add_meanings(out, "route", route_fields());
  add_meanings(out, "access", access_fields());
  add_meanings(out, "reply_set", reply_set_fields());
  add_meanings(out, "edit", edit_fields());
  return out;
}

}  // namespace jembatan::plan
