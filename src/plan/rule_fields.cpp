// The keys of what is decided in order: routes, access rules with their reply sets, edits.
#include <fmt/format.h>
#include <re2/re2.h>

#include <algorithm>

#include "base/text.h"
#include "dictionary/encode.h"
#include "dictionary/layout.h"
#include "plan/assignments.h"
#include "plan/draft.h"
#include "plan/field_values.h"
#include "plan/mirror_field.h"
#include "plan/names.h"

namespace jembatan::plan {
namespace {

using document::Entry;
using document::Field;
using document::Kind;
using document::Need;
using document::Reading;

constexpr std::array<std::string_view, 2> kProofs{"password", "client"};
constexpr std::array<std::string_view, 4> kEditPointNames{"received", "forwarding", "answered", "replying"};

void read_for(Reading& r, const Entry& e, bool& access, bool& accounting) {
  access = accounting = false;
  for (const std::string& text : r.texts(e)) {
    if (text == "access") {
      access = true;
    } else if (text == "accounting") {
      accounting = true;
    } else {
      r.wrong(e, fmt::format("'for' holds '{}'", escaped(text)), "access, accounting");
    }
  }
}

bool is_octets(const dictionary::Definition& attribute) {
  return attribute.type == dictionary::DataType::text || attribute.type == dictionary::DataType::string;
}

const Field<RouteDraft> kRoute[] = {
    {"name", Need::required, "what people call the rule",
     [](Reading& r, const Entry& e, RouteDraft& d) { d.object.name = read_name(r, e); }},
    {"when", Need::required, "the condition (docs/conditions.md)",
     [](Reading& r, const Entry& e, RouteDraft& d) {
       d.object.when = read_request_condition(r, e, d.context.catalogue, "a route");
     }},
    {"handle", Need::required, "here, refuse, ignore, or group:NAME",
     [](Reading& r, const Entry& e, RouteDraft& d) {
       if (r.expect(e, Kind::text)) d.object.handle = e;
     }},
    {"for", Need::optional, "an array of access and accounting; default: both",
     [](Reading& r, const Entry& e, RouteDraft& d) { read_for(r, e, d.object.access, d.object.accounting); }},
    {"message", Need::optional, "Reply-Message of a refusal",
     [](Reading& r, const Entry& e, RouteDraft& d) { d.object.message = read_message(r, e); }},
    {"mirror", Need::optional, "instead of the mirror of the group, for what the route forwards: as there",
     [](Reading& r, const Entry& e, RouteDraft& d) {
       d.object.mirror = read_mirror(r, e, d.context.catalogue);
     }},
};

const Field<AccessDraft> kAccess[] = {
    {"name", Need::required, "what people call the rule",
     [](Reading& r, const Entry& e, AccessDraft& d) { d.object.rule.name = read_name(r, e); }},
    {"when", Need::optional, "the condition (docs/conditions.md); default: always",
     [](Reading& r, const Entry& e, AccessDraft& d) {
       d.object.rule.when = read_condition(r, e, d.context.catalogue);
     }},
    {"permit", Need::required, "true or false",
     [](Reading& r, const Entry& e, AccessDraft& d) { d.object.rule.permit = r.boolean(e).value_or(false); }},
    {"methods", Need::optional,
     "the acceptable methods, an array of pap, chap, ms-chap, ms-chap-v2; default: all",
     [](Reading& r, const Entry& e, AccessDraft& d) {
       static const std::vector<std::string> kMethods{"pap", "chap", "ms-chap", "ms-chap-v2"};
       for (std::string& text : r.texts(e)) {
         if (std::find(kMethods.begin(), kMethods.end(), text) == kMethods.end()) {
           r.wrong(e, fmt::format("'methods' holds '{}'", escaped(text)), join(kMethods, ", "));
         } else {
           d.object.rule.methods.push_back(std::move(text));
         }
       }
     }},
    {"factors", Need::optional, "second factors that are asked for besides, an array of names; default: none",
     [](Reading& r, const Entry& e, AccessDraft& d) { d.object.factors = r.list(e); }},
    {"factors_unless", Need::optional,
     "a condition (docs/conditions.md): where it holds, the rule asks for no second factor",
     [](Reading& r, const Entry& e, AccessDraft& d) {
       d.object.rule.factors_unless = read_condition(r, e, d.context.catalogue);
     }},
    {"message", Need::optional, "Reply-Message",
     [](Reading& r, const Entry& e, AccessDraft& d) { d.object.rule.message = read_message(r, e); }},
    {"proof", Need::optional,
     "password (default: the user has proved who he is), or client: the rule looks at requests that prove "
     "nothing, "
     "because the client has seen to it (Service-Type Authorize-Only)",
     [](Reading& r, const Entry& e, AccessDraft& d) {
       d.object.rule.proof = r.choice(e, kProofs).value_or(0) == 0 ? Proof::password : Proof::client;
     }},
    {"reply", Need::optional,
     "a table of attributes for the Access-Accept (with permit = false for the Access-Reject), by dictionary "
     "name; "
     "vlan = 1 to 4094; texts may have places like {user} and {client.label.place}; those of the user come "
     "first",
     [](Reading& r, const Entry& e, AccessDraft& d) {
       if (r.expect(e, Kind::table)) d.object.reply = e;
     }},
    {"also", Need::optional, "reply sets whose attributes come behind those of the rule, an array of names",
     [](Reading& r, const Entry& e, AccessDraft& d) { d.object.also = r.list(e); }},
};

const Field<ReplySetDraft> kReplySet[] = {
    {"name", Need::required, "the name that access rules call it by",
     [](Reading& r, const Entry& e, ReplySetDraft& d) { d.object.name = read_name(r, e); }},
    {"reply", Need::required, "a table of attributes, as that of an access rule",
     [](Reading& r, const Entry& e, ReplySetDraft& d) {
       d.object.reply = read_assignments(r, e, d.context, AssignedIn::accept);
     }},
};

// An attribute that edits can change: of the packet itself, or a vendor's.
const dictionary::Definition* read_attribute(Reading& r, const Entry& e, std::string_view name,
                                             const dictionary::Catalogue& names) {
  const auto found = dictionary::find_named(names, name);
  if (!found) {
    r.wrong(e, found.error().text, "an attribute's name");
    return nullptr;
  }
  const dictionary::Path& path = (*found)->path;
  const bool own = path.front() == 80 || path.front() == 79 || path.front() == 33;
  const bool of_packet = path.size() == 1 && (*found)->type != dictionary::DataType::vsa;
  if (!own && (of_packet || (path.size() == 3 && path.front() == dictionary::kVendorSpecific))) return *found;
  r.wrong(e,
          fmt::format("'{}' cannot be changed: {}", (*found)->name,
                      own ? "the server writes it itself" : "it stands inside another, or holds others"),
          "attributes of the packet itself, and vendors'");
  return nullptr;
}

std::vector<Edit::Pair> read_pairs(Reading& r, const Entry& e, EditDraft& d) {
  std::vector<Edit::Pair> out;
  if (!r.expect(e, Kind::table)) return out;
  for (const Entry& pair : e.value.entries) {
    const auto* from = read_attribute(r, pair, pair.key, d.context.catalogue);
    const auto name = r.text(pair);
    const auto* to = name ? read_attribute(r, pair, *name, d.context.catalogue) : nullptr;
    if (from == nullptr || to == nullptr) continue;
    if (from->hiding != to->hiding || (from->hiding == dictionary::Hiding::none && from->type != to->type &&
                                       !(is_octets(*from) && is_octets(*to)))) {
      r.wrong(pair,
              fmt::format("{} is {}{}, {} is {}{}", from->name, name_of(from->type),
                          from->hiding == dictionary::Hiding::none ? "" : ", hidden", to->name,
                          name_of(to->type), to->hiding == dictionary::Hiding::none ? "" : ", hidden"),
              "attributes of one type");
    }
    out.emplace_back(from, to);
  }
  return out;
}

void read_rewrites(Reading& r, const Entry& e, EditDraft& d) {
  if (!r.expect(e, Kind::table)) return;
  for (const Entry& entry : e.value.entries) {
    const auto* attribute = read_attribute(r, entry, entry.key, d.context.catalogue);
    const auto source = r.text(entry);
    if (attribute == nullptr || !source) continue;
    re2::RE2::Options options;
    options.set_log_errors(false);
    options.set_max_mem(1 << 20);
    auto pattern = std::make_shared<const re2::RE2>(*source, options);
    if (!pattern->ok()) {
      r.wrong(entry, fmt::format("no pattern: {}", pattern->error()), "RE2's syntax");
    } else if (pattern->NamedCapturingGroups().empty()) {
      r.wrong(entry, "the pattern has no named group", "one or more, like (?P<head>.*)(?P<code>[0-9]{6})");
    } else if (!is_octets(*attribute)) {
      r.wrong(
          entry,
          fmt::format("{} is {}, which a pattern cannot match", attribute->name, name_of(attribute->type)),
          "attributes of text or octets");
    } else {
      d.object.edit.rewrites.push_back({attribute, std::move(pattern), *source});
    }
  }
}

const Field<EditDraft> kEdit[] = {
    {"name", Need::required, "what people call the edit",
     [](Reading& r, const Entry& e, EditDraft& d) { d.object.edit.name = read_name(r, e); }},
    {"at", Need::required,
     "received (as it came), forwarding (before it goes to a server), answered (the server's answer), or "
     "replying "
     "(before the reply goes to the client)",
     [](Reading& r, const Entry& e, EditDraft& d) {
       d.object.edit.at = static_cast<EditPoint>(r.choice(e, kEditPointNames).value_or(0));
     }},
    {"for", Need::optional, "an array of access and accounting; default: both",
     [](Reading& r, const Entry& e, EditDraft& d) {
       read_for(r, e, d.object.edit.access, d.object.edit.accounting);
     }},
    {"when", Need::optional, "the condition (docs/conditions.md); default: always",
     [](Reading& r, const Entry& e, EditDraft& d) {
       d.object.edit.when = read_condition(r, e, d.context.catalogue);
       if (d.object.edit.when) refuse_sessions(r, e, *d.object.edit.when);
     }},
    {"rewrite", Need::optional,
     "a table of attributes and patterns with named groups: where one does not match, the edit is not done; "
     "{match.NAME} stands for what a group matched",
     read_rewrites},
    {"copy", Need::optional, "a table of attributes: the values of the left one are added as the right one",
     [](Reading& r, const Entry& e, EditDraft& d) { d.object.edit.copies = read_pairs(r, e, d); }},
    {"rename", Need::optional, "a table of attributes: the left one becomes the right one",
     [](Reading& r, const Entry& e, EditDraft& d) { d.object.edit.renames = read_pairs(r, e, d); }},
    {"remove", Need::optional, "an array of attributes",
     [](Reading& r, const Entry& e, EditDraft& d) {
       for (const std::string& name : r.texts(e)) {
         if (const auto* found = read_attribute(r, e, name, d.context.catalogue))
           d.object.edit.removes.push_back(found);
       }
     }},
    {"set", Need::optional,
     "a table of attributes and values, as in a reply: each takes the place of what was there",
     [](Reading& r, const Entry& e, EditDraft& d) {
       if (r.expect(e, Kind::table)) d.object.sets = e;
     }},
    {"add", Need::optional, "the same, beside what was there",
     [](Reading& r, const Entry& e, EditDraft& d) {
       if (r.expect(e, Kind::table)) d.object.adds = e;
     }},
};

}  // namespace

std::span<const Field<RouteDraft>> route_fields() {
  return kRoute;
}
std::span<const Field<AccessDraft>> access_fields() {
  return kAccess;
}

std::span<const Field<ReplySetDraft>> reply_set_fields() {
  return kReplySet;
}
std::span<const Field<EditDraft>> edit_fields() {
  return kEdit;
}

std::string_view name_of(EditPoint point) {
  return kEditPointNames[static_cast<std::size_t>(point)];
}

}  // namespace jembatan::plan
