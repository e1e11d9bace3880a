#include "admin/trust_calls.h"

#include <fmt/format.h>

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

Edit client_edit(const std::string& name, std::vector<revision::FieldEdit> fields) {
  Edit out;
  out.kind = "client";
  out.name = name;
  out.fields = std::move(fields);
  return out;
}

void show_secret(const Asked& asked, const std::string& name) {
  const auto secret =
      asked.server.with_revisions([&](Keeper& keeper) { return keeper.secret("client", name, "secret"); });
  if (!secret) return problem(asked.response, secret.error());
  if (!put_on_record(asked, audit_entry(asked, "secret show", "client " + name, ""))) return;
  answer(asked.response, {{"client", name}, {"secret", std::string(text_of(secret->reveal()))}});
}

void rotate_secret(const Asked& asked, const std::string& name, const std::string& until) {
  const auto live = asked.server.plan();
  const plan::Client* client = live->plan->client_named(name);
  if (client != nullptr && client->old_secret) {
    return problem(
        asked.response, 409, "Conflict",
        fmt::format("the secret of client '{}' is being rotated already; to end it: jembatan client secret "
                    "finish {}",
                    name, name));
  }
  const auto current =
      asked.server.with_revisions([&](Keeper& keeper) { return keeper.secret("client", name, "secret"); });
  if (!current) return problem(asked.response, current.error());
  const std::string fresh = new_secret();
  std::vector<revision::FieldEdit> fields{
      {"old_secret", document::text_value(std::string(text_of(current->reveal())))},
      {"secret", document::text_value(fresh)}};
  if (!until.empty()) fields.push_back({"old_secret_until", document::text_value(until)});
  document::Problems problems;
  revision::Wish wish{asked.caller, "rotate the secret of " + name, live->revision, false, false};
  const auto applied =
      make_change(asked, {client_edit(name, std::move(fields))}, wish, "secret rotate", problems);
  if (!applied) return problem(asked.response, applied.error(), problems);
  answer(asked.response, {{"client", name}, {"secret", fresh}, {"plan_revision", applied->revision}});
}

void finish_rotation(const Asked& asked, const std::string& name) {
  const auto live = asked.server.plan();
  const plan::Client* client = live->plan->client_named(name);
  if (client != nullptr && !client->old_secret)
    return problem(asked.response, 409, "Conflict",
                   fmt::format("the secret of client '{}' is not being rotated", name));
  document::Problems problems;
  revision::Wish wish{asked.caller, "end the rotation of the secret of " + name, std::nullopt, false, false};
  const auto applied = make_change(
      asked, {client_edit(name, {{"old_secret", std::nullopt}, {"old_secret_until", std::nullopt}})}, wish,
      "secret finish", problems);
  if (!applied) return problem(asked.response, applied.error(), problems);
  answer(asked.response, {{"client", name}, {"plan_revision", applied->revision}});
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

void client_secret(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"client", "do", "until"});
  if (!body) return;
  const auto name = text_in(*body, "client");
  const auto doing = text_in(*body, "do");
  const auto until = text_in(*body, "until");
  for (const auto* text : {&name, &doing, &until}) {
    if (!*text) return problem(asked.response, 400, "Not understood", text->error().text);
  }
  if (*doing == "show") return show_secret(asked, *name);
  if (*doing != "rotate" && *doing != "finish")
    return problem(asked.response, 400, "Not understood", "'do' is none of show, rotate, finish");
  if (!changed_by_commands(asked)) return;
  if (*doing == "rotate") return rotate_secret(asked, *name, *until);
  finish_rotation(asked, *name);
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
  revision::AuditQuery query{request.get("author"), request.get("action"), request.get("subject"), *most};
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
