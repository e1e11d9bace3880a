#include "admin/trust_calls.h"

#include <fmt/format.h>

#include <map>
#include <nlohmann/json.hpp>

#include "admin/answers.h"
#include "admin/callers.h"
#include "base/text.h"
#include "document/write.h"
#include "host/system.h"
#include "revision/seal.h"

namespace jembatan::admin {
namespace {

using nlohmann::json;
using revision::Edit;
using revision::Keeper;

// Whose secret a call is about: a client's, or that of a server to forward to.
struct Holder {
  std::string kind;
  std::string name;
  std::string field;   ///< where its secret stands
  std::string called;  ///< "client kerapu-deck-2", "server reef-homes/reef-1"
  json body;           ///< what answers begin with
};

Result<Holder> holder_of(const plan::Plan& plan, const std::string& client, const std::string& server) {
  if (client.empty() == server.empty())
    return fail(Errc::malformed, "whose secret? One of 'client': NAME and 'server': GROUP/NAME");
  if (!client.empty()) return Holder{"client", client, "secret", "client " + client, {{"client", client}}};
  std::vector<std::string> names;
  for (const plan::Group& group : plan.groups) {
    for (const plan::Server& one : group.servers) {
      names.push_back(group.name + "/" + one.entry);
      if (names.back() == server)
        return Holder{"group",
                      group.name,
                      fmt::format("server.{}.secret", one.entry),
                      "server " + server,
                      {{"server", server}}};
    }
  }
  return not_found("server", server, names);
}

Result<Secret> secret_of(const Asked& asked, const Holder& holder) {
  return asked.server.with_revisions(
      [&](Keeper& keeper) { return keeper.secret(holder.kind, holder.name, holder.field); });
}

void show_secret(const Asked& asked, Holder holder) {
  const auto secret = secret_of(asked, holder);
  if (!secret) return problem(asked.response, secret.error());
  if (!put_on_record(asked, audit_entry(asked, "secret show", holder.called, ""))) return;
  holder.body["secret"] = std::string(text_of(secret->reveal()));
  answer(asked.response, holder.body);
}

// Changes fields of whoever holds the secret; `body` is what is answered besides.
void change_fields(const Asked& asked, const Holder& holder, std::vector<revision::FieldEdit> fields,
                   const revision::Wish& wish, json body) {
  Edit edit;
  edit.kind = holder.kind;
  edit.name = holder.name;
  edit.fields = std::move(fields);
  document::Problems problems;
  const auto applied = make_change(asked, {edit}, wish, problems);
  if (!applied) return problem(asked.response, applied.error(), problems);
  body["plan_revision"] = applied->revision;
  answer(asked.response, body);
}

// A client may use both for a while: it is not known when its device changes. A server is asked with the new
// one from now on.
void rotate_secret(const Asked& asked, Holder holder, const std::string& given, const std::string& until) {
  const auto live = asked.server.plan();
  const plan::Client* client = live->plan->client_named(holder.name);
  const bool of_client = holder.kind == "client";
  if (of_client && client != nullptr && client->old_secret) {
    return problem(
        asked.response, 409, "Conflict",
        fmt::format("the secret of client '{}' is being rotated already; to end it: jembatan client secret "
                    "finish {}",
                    holder.name, holder.name));
  }
  const auto current = secret_of(asked, holder);
  if (!current) return problem(asked.response, current.error());
  const std::string fresh = given.empty() ? new_secret() : given;
  std::vector<revision::FieldEdit> fields{{holder.field, document::text_value(fresh)}};
  if (of_client)
    fields.push_back({"old_secret", document::text_value(std::string(text_of(current->reveal())))});
  if (!until.empty()) {
    const auto end = parse_moment(until, now(), Count::ahead);
    if (!end) return problem(asked.response, 400, "Not understood", end.error().at("until").text);
    fields.push_back({"old_secret_until", document::text_value(text_of(*end))});
  }
  const revision::Wish wish{
      asked.caller,   "rotate the secret of " + holder.called, live->revision, false, false, now(),
      "secret rotate"};
  holder.body["secret"] = fresh;
  change_fields(asked, holder, std::move(fields), wish, holder.body);
}

void finish_rotation(const Asked& asked, const Holder& holder) {
  const auto live = asked.server.plan();
  const plan::Client* client = live->plan->client_named(holder.name);
  if (holder.kind != "client" || (client != nullptr && !client->old_secret))
    return problem(asked.response, 409, "Conflict",
                   fmt::format("the secret of {} is not being rotated", holder.called));
  const revision::Wish wish{
      asked.caller,   "end the rotation of the secret of " + holder.called, std::nullopt, false, false, now(),
      "secret finish"};
  change_fields(asked, holder, {{"old_secret", std::nullopt}, {"old_secret_until", std::nullopt}}, wish,
                holder.body);
}

json time_or_null(const std::optional<WallTime>& time) {
  return time ? json(text_of(*time)) : json(nullptr);
}

}  // namespace

bool put_on_record(const Asked& asked, const revision::AuditEntry& entry) {
  const Status recorded =
      asked.server.with_archive([&](revision::Archive& archive) { return archive.record(entry); });
  if (!recorded) problem(asked.response, recorded.error());
  return recorded.has_value();
}

Status know_tokens(revision::Archive& archive, Callers& callers) {
  auto tokens = archive.tokens_in_force();
  if (!tokens) return tokens.error();
  callers.know(std::move(*tokens));
  return {};
}

void peer_secret(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"client", "server", "do", "secret", "until"});
  if (!body) return;
  std::map<std::string, std::string> given;
  for (const char* key : {"client", "server", "do", "secret", "until"}) {
    const auto text = text_in(*body, key);
    if (!text) return problem(asked.response, 400, "Not understood", text.error().text);
    given[key] = *text;
  }
  auto holder = holder_of(*asked.server.plan()->plan, given["client"], given["server"]);
  if (!holder) return problem(asked.response, holder.error());
  const std::string& doing = given["do"];
  if (doing == "show") return show_secret(asked, std::move(*holder));
  if (doing != "rotate" && doing != "finish")
    return problem(asked.response, 400, "Not understood", "'do' is none of show, rotate, finish");
  if (!changed_by_commands(asked)) return;
  if (doing == "rotate") return rotate_secret(asked, std::move(*holder), given["secret"], given["until"]);
  finish_rotation(asked, *holder);
}

void list_rotations(const Asked& asked) {
  const auto live = asked.server.plan();
  json list = json::array();
  for (const plan::Client& client : live->plan->clients) {
    if (!client.old_secret) continue;
    const auto& activity = live->activity_of(client);
    list.push_back({{"client", client.name},
                    {"old_secret_until", time_or_null(client.old_secret_until)},
                    {"old_last_used", time_or_null(activity.last_verified(plan::WhichSecret::old))},
                    {"new_last_used", time_or_null(activity.last_verified(plan::WhichSecret::current))}});
  }
  answer(asked.response, {{"rotations", list}});
}

void show_audit(const Asked& asked) {
  const auto most = most_in(asked.request, asked.response);
  if (!most) return;
  const auto& request = asked.request;
  revision::AuditQuery query{request.get("author"), request.get("action"), request.get("subject"), {}, *most};
  if (!moment_in(request, asked.response, "since", query.when.since) ||
      !moment_in(request, asked.response, "until", query.when.until))
    return;
  const auto found =
      asked.server.with_archive([&](revision::Archive& archive) { return archive.audit(query); });
  if (!found) return problem(asked.response, found.error());
  json list = json::array();
  for (const auto& e : *found) {
    list.push_back({{"id", e.id},
                    {"at", text_of(e.at)},
                    {"author", e.author},
                    {"role", e.role},
                    {"from", e.from},
                    {"action", e.action},
                    {"subject", e.subject},
                    {"detail", e.detail}});
  }
  answer(asked.response, {{"audit", list}});
}

void list_tokens(const Asked& asked) {
  const auto found = asked.server.with_archive([](revision::Archive& archive) { return archive.tokens(); });
  if (!found) return problem(asked.response, found.error());
  json list = json::array();
  for (const auto& token : *found) {
    list.push_back({{"name", token.name},
                    {"role", revision::name_of(token.role)},
                    {"made", text_of(token.made)},
                    {"made_by", token.made_by},
                    {"revoked", time_or_null(token.revoked)}});
  }
  answer(asked.response, {{"tokens", list}});
}

void create_token(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"name", "role"});
  if (!body) return;
  const auto name = text_in(*body, "name");
  const auto role_name = text_in(*body, "role");
  const auto role = role_name ? revision::role_named(*role_name) : std::nullopt;
  if (!name || name->empty() || name->size() > 100 || !is_plain_text(view_of(*name)) || !role)
    return problem(asked.response, 400, "Not understood",
                   "a token has a name of 1 to 100 octets, and a role: viewer, operator or administrator");
  if (*name == Callers::kOwn)
    return problem(asked.response, 409, "Conflict",
                   "'local' is what the token of the node's own file is called: choose another name");
  Octets octets(32);
  host::SystemRandom().fill(octets);
  const std::string text = to_hex(octets);
  const revision::Token token{*name, *role, now(), asked.caller.name, std::nullopt};
  const auto entry =
      audit_entry(asked, "token create", "token " + *name, fmt::format("role {}", revision::name_of(*role)));
  const Status added = asked.server.with_archive([&](revision::Archive& archive) {
    const Status done = archive.add_token(token, revision::sha256(view_of(text)), entry);
    return done ? know_tokens(archive, asked.callers) : done;
  });
  if (!added) return problem(asked.response, added.error());
  answer(asked.response, {{"name", *name}, {"role", revision::name_of(*role)}, {"token", text}});
}

void revoke_token(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"name"});
  if (!body) return;
  const auto name = text_in(*body, "name");
  if (!name) return problem(asked.response, 400, "Not understood", name.error().text);
  const auto entry = audit_entry(asked, "token revoke", "token " + *name, "");
  const Status revoked = asked.server.with_archive([&](revision::Archive& archive) {
    const Status done = archive.revoke_token(*name, now(), entry);
    return done ? know_tokens(archive, asked.callers) : done;
  });
  if (!revoked) return problem(asked.response, revoked.error());
  answer(asked.response, {{"name", *name}});
}

}  // namespace jembatan::admin
