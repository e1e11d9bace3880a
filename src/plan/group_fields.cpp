// Groups of servers to forward to: their fields.
#include <fmt/format.h>

#include <array>

#include "base/text.h"
#include "base/text_hash.h"
#include "plan/draft.h"
#include "plan/field_values.h"
#include "plan/mirror_field.h"
#include "plan/names.h"

namespace jembatan::plan {
namespace {

using namespace std::chrono_literals;
using document::Entry;
using document::Field;
using document::Kind;
using document::Need;
using document::Reading;

constexpr std::array<std::string_view, 3> kWhenSilent{"ignore", "refuse", "here"};
constexpr std::array<std::string_view, 4> kSticky{"no", "user", "station", "session"};

Probe read_probe(Reading& r, const Entry& e, const Outside& outside) {
  constexpr std::string_view kForms = "status-server, or { user = \"NAME\", secret = … } for a sign-in";
  Probe out;
  if (e.value.kind != Kind::table) {
    const auto text = r.text(e);
    out.status_server = text == "status-server";
    if (text && !out.status_server)
      r.wrong(e, fmt::format("'probe' is '{}'", escaped(*text)), std::string(kForms));
    return out;
  }
  bool secret = false;
  for (const Entry& inner : e.value.entries) {
    if (inner.key == "user") {
      out.user = read_name(r, inner);
    } else if (inner.key == "secret") {
      out.password = read_secret(r, inner, outside).value_or(Secret{});
      secret = true;
    } else {
      r.unknown_key(inner, "probe", {"user", "secret"});
    }
  }
  if (out.user.empty() || !secret)
    r.wrong(e, "'probe' is a table without user or secret", std::string(kForms));
  return out;
}

std::uint16_t read_number16(Reading& r, const Entry& e, std::int64_t least) {
  return static_cast<std::uint16_t>(r.integer(e, least, 65535).value_or(least));
}

void read_server_address(Reading& r, const Entry& e, ServerDraft& d) {
  const auto text = r.text(e);
  if (!text) return;
  const auto address = IpAddress::parse(*text);
  if (address) {
    d.object.server.address = *address;
  } else if (is_host_name(*text)) {
    d.object.server.host = *text;
    d.object.host = e;
  } else {
    r.wrong(e, fmt::format("'address': {}", address.error().text), "an address, or a host name");
  }
}

void read_resolved(Reading& r, const Entry& e, ServerDraft& d) {
  for (const std::string& text : r.texts(e)) {
    const auto address = IpAddress::parse(text);
    if (!address) return r.wrong(e, fmt::format("'resolved': {}", address.error().text));
    d.object.resolved.push_back(*address);
  }
}

// The addresses of a server: the one that it has, or those that its host name had or has now. None while
// nobody can look it up.
std::vector<IpAddress> addresses_of(Reading& r, const ServerDraft& draft) {
  const ServerParts& parts = draft.object;
  if (parts.server.host.empty()) return {parts.server.address};
  std::vector<IpAddress> out = parts.resolved;
  if (out.empty() && draft.context.outside.resolve) {
    auto found = draft.context.outside.resolve(parts.server.host);
    if (found) out = std::move(*found);
    if (!found) r.wrong(*parts.host, fmt::format("'address': {}", found.error().text));
  }
  if (out.size() > kMostAddresses) out.resize(kMostAddresses);
  return out;
}

// One server for each of its addresses.
void add_servers(Reading& r, ServerDraft& draft, GroupParts& to) {
  std::vector<IpAddress> addresses = addresses_of(r, draft);
  Server server = std::move(draft.object.server);
  server.name = server.entry;
  if (addresses.empty()) addresses.push_back({});
  server.of_its_entry = static_cast<std::uint16_t>(addresses.size());
  for (const IpAddress& address : addresses) {
    server.address = address;
    if (addresses.size() > 1) server.name = server.entry + "@" + address.text();
    server.number = stable_number(server.name);
    if (server.source && !address.unspecified() && server.source->family != address.family)
      r.wrong(*draft.object.source,
              fmt::format("'source' is {}, and the server's address is {}", server.source->text(),
                          address.text()),
              "two addresses of one family, IPv4 or IPv6");
    to.group.servers.push_back(server);
    to.servers_at.push_back(draft.at);
  }
}

const Field<ServerDraft> kServer[] = {
    {"name", Need::required, "the name that people know the server by",
     [](Reading& r, const Entry& e, ServerDraft& d) { d.object.server.entry = read_name(r, e); }},
    {"address", Need::required,
     "its address, or a host name: each of its addresses, up to 8, is a server, and they share the weight",
     read_server_address},
    {"resolved", Need::optional,
     "the addresses that the host name has; written by the node, which looks it up again by its TTL",
     read_resolved},
    {"source", Need::optional,
     "the address of this machine that requests to it leave from; default: send_from of the node file",
     [](Reading& r, const Entry& e, ServerDraft& d) {
       d.object.source = e;
       read_parsed(r, e, &IpAddress::parse, d.object.server.source.emplace());
     }},
    {"access_port", Need::optional, "UDP port for access, 1 to 65535; default 1812",
     [](Reading& r, const Entry& e, ServerDraft& d) {
       d.object.server.access_port = read_number16(r, e, 1);
     }},
    {"accounting_port", Need::optional, "UDP port for accounting, 1 to 65535; default 1813",
     [](Reading& r, const Entry& e, ServerDraft& d) {
       d.object.server.accounting_port = read_number16(r, e, 1);
     }},
    {"secret", Need::required, "the shared secret: text, { file = \"PATH\" } or { env = \"VARIABLE\" }",
     [](Reading& r, const Entry& e, ServerDraft& d) {
       d.object.server.secret = read_shared_secret(r, e, d.context.outside);
     }},
    {"priority", Need::optional, "0 to 65535, the lowest is asked first; default 1",
     [](Reading& r, const Entry& e, ServerDraft& d) { d.object.server.priority = read_number16(r, e, 0); }},
    {"weight", Need::optional, "0 to 65535, the share within a priority; default 1",
     [](Reading& r, const Entry& e, ServerDraft& d) { d.object.server.weight = read_number16(r, e, 0); }},
    {"message_authenticator", Need::optional,
     "always (default: replies to access requests without Message-Authenticator are dropped) or if-present",
     [](Reading& r, const Entry& e, ServerDraft& d) {
       d.object.server.message_authenticator = read_signature_rule(r, e);
     }},
};

const Field<GroupDraft> kGroup[] = {
    {"name", Need::required, "the group's name",
     [](Reading& r, const Entry& e, GroupDraft& d) { d.object.group.name = read_name(r, e); }},
    {"answer_within", Need::optional,
     "how long the first attempt at a server waits, 100ms to 5m; default 3s; each further one twice as long",
     [](Reading& r, const Entry& e, GroupDraft& d) {
       d.object.group.answer_within = r.duration(e, 100ms, 300s).value_or(3s);
     }},
    {"attempts", Need::optional, "how often one server is asked before the next, 1 to 10; default 2",
     [](Reading& r, const Entry& e, GroupDraft& d) {
       d.object.group.attempts = static_cast<int>(r.integer(e, 1, 10).value_or(2));
     }},
    {"down_after", Need::optional,
     "attempts unanswered in a row, of several users or with a probe, until a server counts as down, 1 to "
     "1000; default 5",
     [](Reading& r, const Entry& e, GroupDraft& d) {
       d.object.group.down_after = static_cast<int>(r.integer(e, 1, 1000).value_or(5));
     }},
    {"try_again_every", Need::optional,
     "how often a server that is down gets one request to show itself, and how often servers are probed, 1s "
     "to "
     "1h; default 30s",
     [](Reading& r, const Entry& e, GroupDraft& d) {
       d.object.group.try_again_every = r.duration(e, 1s, 3600s).value_or(30s);
     }},
    {"give_up_after", Need::optional,
     "how long a request is asked for in all, 1s to 10m; default: until every server was asked; never longer "
     "than the client waits",
     [](Reading& r, const Entry& e, GroupDraft& d) {
       d.object.group.give_up_after = r.duration(e, 1s, 600s).value_or(0s);
     }},
    {"sticky", Need::optional,
     "what keeps requests at one server: user, station or session; default no: each request by weight alone",
     [](Reading& r, const Entry& e, GroupDraft& d) {
       d.object.group.sticky = static_cast<Sticky>(r.choice(e, kSticky).value_or(0));
     }},
    {"probe", Need::optional,
     "how the node finds out whether a server lives: status-server (RFC 5997), or a sign-in by { user = "
     "\"NAME\", secret = … }; default: by the requests of users",
     [](Reading& r, const Entry& e, GroupDraft& d) {
       d.object.group.probe = read_probe(r, e, d.context.outside);
     }},
    {"warm_up", Need::optional,
     "in which time a server that is back gets to its share, 1s to 1h; default: at once",
     [](Reading& r, const Entry& e, GroupDraft& d) {
       d.object.group.warm_up = r.duration(e, 1s, 3600s).value_or(0s);
     }},
    {"when_silent", Need::optional,
     "what the client gets if no server answers: ignore (default, no reply), refuse, or here: what this node "
     "itself says",
     [](Reading& r, const Entry& e, GroupDraft& d) {
       d.object.group.when_silent = static_cast<WhenSilent>(r.choice(e, kWhenSilent).value_or(0));
     }},
    {"mirror", Need::optional, kMirrorMeaning,
     [](Reading& r, const Entry& e, GroupDraft& d) {
       d.object.mirror = read_mirror(r, e, d.context.catalogue);
     }},
    {"server", Need::required, "the servers: [[group.server]] tables",
     [](Reading& r, const Entry& e, GroupDraft& d) {
       if (!r.expect(e, Kind::array)) return;
       for (const document::Value& item : e.value.items) {
         if (item.kind != Kind::table) {
           r.wrong({e.key, item.at, item}, "'server' holds " + std::string(document::name_of(item.kind)),
                   "[[group.server]] tables");
           continue;
         }
         ServerDraft server{d.context, d.file, item.at, {}};
         document::read_fields(r, item, owner_text("server", item), server_fields(), server);
         add_servers(r, server, d.object);
       }
     }},
};

}  // namespace

std::span<const Field<GroupDraft>> group_fields() {
  return kGroup;
}
std::span<const Field<ServerDraft>> server_fields() {
  return kServer;
}

}  // namespace jembatan::plan
