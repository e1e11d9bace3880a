#include "admin/plan_calls.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "admin/answers.h"
#include "admin/json.h"
#include "base/text.h"
#include "decide/explain.h"
#include "document/write.h"
#include "server/system.h"

namespace jembatan::admin {
namespace {

using nlohmann::json;
using revision::Applied;
using revision::Edit;
using revision::Keeper;

constexpr std::size_t kMostRows = 100000;

WallTime now() {
  return server::SystemClock().now().wall;
}

json json_of_revision(const revision::Revision& r) {
  return {{"number", r.number},          {"at", text_of(r.at)},         {"author", r.author},
          {"source", r.source},          {"message", r.message},        {"added", r.counts.added},
          {"changed", r.counts.changed}, {"removed", r.counts.removed}, {"moved", r.counts.moved}};
}

json json_of_changes(const std::vector<revision::ObjectChange>& changes) {
  json out = json::array();
  for (const auto& change : changes) {
    if (change.what == revision::What::renumbered) continue;
    json fields = json::array();
    for (const auto& field : change.fields)
      fields.push_back({{"field", field.field}, {"before", field.before}, {"after", field.after}});
    json row{{"what", revision::name_of(change.what)}, {"kind", change.kind}, {"name", change.name}};
    if (!fields.empty()) row["fields"] = fields;
    if (!change.place.empty()) row["place"] = change.place;
    out.push_back(std::move(row));
  }
  return out;
}

// Clients with a host name: which address that is now.
json json_of_resolved(const Applied& applied) {
  json out = json::object();
  for (const auto& change : applied.changes) {
    if (change.kind != "client" || change.after == nullptr) continue;
    const plan::Client* client = applied.plan->client_named(change.name);
    if (client != nullptr && !client->host.empty()) out[client->host] = client->address.address.text();
  }
  return out;
}

void answer_applied(const Asked& asked, const Result<Applied>& applied, const document::Problems& problems) {
  if (!applied) return problem(asked.response, applied.error(), problems);
  json body = json_of(problems);
  body["plan_revision"] = applied->revision;
  body["changed"] = applied->changed;
  body["changes"] = json_of_changes(applied->changes);
  const json resolved = json_of_resolved(*applied);
  if (!resolved.empty()) body["resolved"] = resolved;
  answer(asked.response, body);
}

// What the body says of who, why, and on what base; a problem is answered if it is not understood.
std::optional<revision::Wish> read_wish(const Asked& asked, const json& body) {
  revision::Wish out{asked.caller, "", std::nullopt, false};
  const auto message = text_in(body, "message");
  const auto refuse = [&](const std::string& why) {
    problem(asked.response, 400, "Not understood", why);
    return std::nullopt;
  };
  if (!message) return refuse(message.error().text);
  if (message->size() > 1000 || !is_plain_text(view_of(*message)))
    return refuse("'message' is longer than 1000 octets, or no plain text on one line");
  out.message = *message;
  if (const auto base = body.find("base"); base != body.end() && !base->is_null()) {
    if (!base->is_number_unsigned()) return refuse("'base' is no revision's number");
    out.base = base->get<std::uint64_t>();
  }
  if (const auto dry = body.find("dry_run"); dry != body.end()) {
    if (!dry->is_boolean()) return refuse("'dry_run' is neither true nor false");
    out.dry_run = dry->get<bool>();
  }
  return out;
}

// With a plan folder the folder is the plan: what is changed elsewhere would be gone at the next start.
bool changed_by_commands(const Asked& asked) {
  const auto& folder = asked.server.settings().plan_folder;
  if (folder.empty()) return true;
  problem(asked.response, 409, "The plan comes from a folder",
          fmt::format(
              "node {} takes its plan from the folder '{}': change it there, then `jembatan plan reload`. To "
              "change it by commands, take plan_folder out of the node file and restart",
              asked.server.settings().name, folder.string()));
  return false;
}

std::map<std::string, std::string> texts_in(const json& body, const char* key) {
  std::map<std::string, std::string> out;
  const auto found = body.find(key);
  if (found == body.end() || !found->is_object()) return out;
  for (const auto& [name, value] : found->items()) {
    if (value.is_string()) out[name] = value.get<std::string>();
  }
  return out;
}

std::function<Result<std::string>(const std::string&)> looked_up_in(std::map<std::string, std::string> texts,
                                                                    std::string what) {
  return [texts = std::move(texts), what = std::move(what)](const std::string& name) -> Result<std::string> {
    const auto found = texts.find(name);
    if (found != texts.end()) return found->second;
    return fail(Errc::not_found, fmt::format("{} '{}' did not come with the plan", what, escaped(name)));
  };
}

Result<Edit> read_edit(const json& row) {
  static const std::map<std::string, revision::Do> kDoings{{"add", revision::Do::add},
                                                           {"set", revision::Do::set},
                                                           {"put", revision::Do::put},
                                                           {"remove", revision::Do::remove},
                                                           {"move", revision::Do::move}};
  if (!row.is_object()) return fail(Errc::too_short, "a change is no JSON object");
  Edit out;
  std::map<std::string, std::string> texts;
  for (const char* key : {"do", "kind", "name", "before", "place"}) {
    auto text = text_in(row, key);
    if (!text) return text.error();
    texts[key] = std::move(*text);
  }
  const auto doing = kDoings.find(texts["do"]);
  if (doing == kDoings.end())
    return fail(Errc::too_short,
                fmt::format("'do' is '{}'; allowed: add, set, put, remove, move", escaped(texts["do"])));
  out.what = doing->second;
  out.kind = texts["kind"];
  out.name = texts["name"];
  out.before = texts["before"];
  out.place = texts["place"];
  out.first = row.value("first", json(false)) == json(true);
  const json fields = row.value("fields", json::object());
  if (!fields.is_object()) return fail(Errc::too_short, "'fields' is no JSON object");
  for (const auto& [path, value] : fields.items()) {
    if (value.is_null()) {
      out.fields.push_back({path, std::nullopt});
      continue;
    }
    auto read = value_of(value);
    if (!read) return read.error().at(path);
    out.fields.push_back({path, std::move(*read)});
  }
  return out;
}

bool has_label(const plan::Client& client, const std::string& wanted) {
  const std::size_t equals = wanted.find('=');
  const auto found = client.labels.find(wanted.substr(0, equals));
  if (found == client.labels.end()) return false;
  if (equals == std::string::npos) return true;
  const std::string value = wanted.substr(equals + 1);
  return found->second == value || found->second.starts_with(value + "/");
}

bool has_labels(const plan::Client& client, const std::vector<std::string>& wanted) {
  return std::all_of(wanted.begin(), wanted.end(),
                     [&client](const std::string& label) { return has_label(client, label); });
}

// The client that an address would be, and those whose prefixes hold it, too.
json address_json(const plan::Plan& plan, const IpAddress& address) {
  json out{{"address", address.text()}, {"client", nullptr}, {"shadowed", json::array()}};
  const plan::Client* client = plan.client_at(address);
  if (client == nullptr) return out;
  out["client"] = client->name;
  Prefix inner = client->address;
  for (std::size_t at = plan.client_table.around(inner); at != plan::ClientTable::kNone;
       at = plan.client_table.around(inner)) {
    inner = plan.clients[at].address;
    out["shadowed"].push_back({{"client", plan.clients[at].name}, {"prefix", inner.text()}});
  }
  return out;
}

void audit(const Asked& asked, std::string action, std::string subject, std::string detail) {
  const revision::AuditEntry entry{0,
                                   now(),
                                   asked.caller.name,
                                   std::string(revision::name_of(asked.caller.role)),
                                   asked.caller.from,
                                   std::move(action),
                                   std::move(subject),
                                   std::move(detail)};
  const Status recorded =
      asked.server.with_archive([&](revision::Archive& archive) { return archive.record(entry); });
  // What cannot be put on record does not happen.
  if (!recorded) problem(asked.response, recorded.error());
}

constexpr std::size_t kSecretLength = 32;

std::string new_secret() {
  return server::SystemRandom().letters(kSecretLength);
}

// Secrets that are to be made here: { "generate": true }.
void generate_secrets(Edit& edit) {
  for (revision::FieldEdit& field : edit.fields) {
    if (!field.value || field.value->kind != document::Kind::table) continue;
    const document::Value* generate = field.value->find("generate");
    if (generate != nullptr && generate->boolean) field.value = document::text_value(new_secret());
  }
}

Result<Applied> edited(const Asked& asked, const std::vector<Edit>& edits, const revision::Wish& wish,
                       std::string_view action, document::Problems& problems) {
  return asked.server.change_plan([&](Keeper& keeper) {
    plan::Outside outside;
    outside.resolve = &server::Server::resolve_host;
    return keeper.change(edits, std::move(outside), wish, action, now(), problems);
  });
}

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
  audit(asked, "secret show", "client " + name, "");
  if (asked.response.status >= 400) return;
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
  revision::Wish wish{asked.caller, "rotate the secret of " + name, live->revision, false};
  const auto applied = edited(asked, {client_edit(name, std::move(fields))}, wish, "secret rotate", problems);
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
  revision::Wish wish{asked.caller, "end the rotation of the secret of " + name, std::nullopt, false};
  const auto applied =
      edited(asked, {client_edit(name, {{"old_secret", std::nullopt}, {"old_secret_until", std::nullopt}})},
             wish, "secret finish", problems);
  if (!applied) return problem(asked.response, applied.error(), problems);
  answer(asked.response, {{"client", name}, {"plan_revision", applied->revision}});
}

json time_or_null(const std::optional<WallTime>& time) {
  return time ? json(text_of(*time)) : json(nullptr);
}

}  // namespace

void reload_plan(const Asked& asked) {
  document::Problems problems;
  answer_applied(asked, asked.server.reload(asked.caller, problems), problems);
}

void apply_plan(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response,
                              {"files", "secret_files", "variables", "message", "base", "dry_run"});
  if (!body) return;
  const auto wish = read_wish(asked, *body);
  if (!wish || (!wish->dry_run && !changed_by_commands(asked))) return;
  std::vector<plan::SourceFile> files;
  const json given = body->value("files", json::array());
  if (!given.is_array()) return problem(asked.response, 400, "Not understood", "'files' is no array");
  for (const json& file : given) {
    if (!file.is_object() || !file.value("name", json()).is_string() ||
        !file.value("text", json()).is_string())
      return problem(asked.response, 400, "Not understood", "a file is {\"name\": TEXT, \"text\": TEXT}");
    files.push_back({file["name"].get<std::string>(), file["text"].get<std::string>()});
  }
  if (files.empty())
    return problem(asked.response, 400, "Not understood", "'files' is empty: a plan has one or more");
  document::Problems problems;
  const auto applied = asked.server.change_plan([&](Keeper& keeper) {
    plan::Outside outside;
    outside.file = looked_up_in(texts_in(*body, "secret_files"), "secret file");
    outside.variable = looked_up_in(texts_in(*body, "variables"), "variable");
    outside.resolve = &server::Server::resolve_host;
    return keeper.apply(files, std::move(outside), *wish, "apply", now(), problems);
  });
  answer_applied(asked, applied, problems);
}

void change_plan(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"changes", "message", "base", "dry_run"});
  if (!body) return;
  const auto wish = read_wish(asked, *body);
  if (!wish || !changed_by_commands(asked)) return;
  const json rows = body->value("changes", json::array());
  if (!rows.is_array() || rows.empty())
    return problem(asked.response, 400, "Not understood", "'changes' is no array, or empty");
  std::vector<Edit> edits;
  for (const json& row : rows) {
    auto edit = read_edit(row);
    if (!edit) return problem(asked.response, 400, "Not understood", edit.error().text);
    generate_secrets(*edit);
    edits.push_back(std::move(*edit));
  }
  document::Problems problems;
  const std::string action = edits.size() > 1
                                 ? "plan change"
                                 : fmt::format("{} {}", edits.front().kind, rows.front().value("do", ""));
  answer_applied(asked, edited(asked, edits, *wish, action, problems), problems);
}

void restore_plan(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"revision", "message", "base", "dry_run"});
  if (!body) return;
  const auto wish = read_wish(asked, *body);
  if (!wish || !changed_by_commands(asked)) return;
  const json number = body->value("revision", json());
  if (!number.is_number_unsigned())
    return problem(asked.response, 400, "Not understood", "'revision' is no number");
  document::Problems problems;
  const auto applied = asked.server.change_plan(
      [&](Keeper& keeper) { return keeper.restore(number.get<std::uint64_t>(), *wish, now(), problems); });
  answer_applied(asked, applied, problems);
}

void list_revisions(const Asked& asked) {
  const auto most = number_in(asked.request, "most").value_or(100);
  const auto found = asked.server.with_archive(
      [&](revision::Archive& archive) { return archive.history(std::min<std::size_t>(most, kMostRows)); });
  if (!found) return problem(asked.response, found.error());
  json list = json::array();
  for (const auto& row : *found) list.push_back(json_of_revision(row));
  answer(asked.response, {{"revisions", list}, {"plan_revision", asked.server.plan()->revision}});
}

void show_difference(const Asked& asked) {
  const auto to = number_in(asked.request, "to").value_or(asked.server.plan()->revision);
  const auto from = number_in(asked.request, "from").value_or(to == 0 ? 0 : to - 1);
  const auto found = asked.server.with_revisions([&](Keeper& keeper) { return keeper.difference(from, to); });
  if (!found) return problem(asked.response, found.error());
  json body{{"from", from}, {"to", to}, {"changes", json_of_changes(found->changes)}};
  const auto known =
      asked.server.with_archive([&](revision::Archive& archive) { return archive.revision(to); });
  if (known) body["revision"] = json_of_revision(*known);
  answer(asked.response, body);
}

void show_files(const Asked& asked) {
  const auto number = number_in(asked.request, "revision").value_or(asked.server.plan()->revision);
  const bool shown = asked.request.get_param_value("secrets") == "true";
  if (shown && asked.caller.role != revision::Role::administrator)
    return problem(asked.response, 403, "Not allowed", "secrets are shown to the role administrator alone");
  const auto files = asked.server.with_revisions([&](Keeper& keeper) {
    return keeper.files(number, shown ? Keeper::Secrets::shown : Keeper::Secrets::kept);
  });
  if (!files) return problem(asked.response, files.error());
  if (shown) audit(asked, "secret export", fmt::format("revision {}", number), "all secrets of the plan");
  if (asked.response.status >= 400) return;
  json list = json::array();
  for (const auto& file : *files) list.push_back({{"name", file.name}, {"text", file.text}});
  answer(asked.response, {{"revision", number}, {"files", list}});
}

void list_objects(const Asked& asked) {
  const auto& request = asked.request;
  const std::string kind = request.get_param_value("kind");
  const std::string name = request.get_param_value("name");
  if (revision::kind_named(kind) == nullptr) {
    std::vector<std::string> kinds;
    for (const auto& known : revision::kinds()) kinds.emplace_back(known.name);
    return problem(asked.response, 400, "Not understood",
                   fmt::format("'kind={}'; allowed: {}", escaped(kind), join(kinds, ", ")));
  }
  const auto live = asked.server.plan();
  std::optional<IpAddress> address;
  if (request.has_param("address")) {
    const auto parsed = IpAddress::parse(request.get_param_value("address"));
    if (!parsed) return problem(asked.response, 400, "Not understood", parsed.error().at("address").text);
    address = *parsed;
  }
  const auto objects =
      asked.server.with_archive([&](revision::Archive& archive) { return archive.objects(live->revision); });
  if (!objects) return problem(asked.response, objects.error());
  json body{{"kind", kind}, {"plan_revision", live->revision}, {"objects", json::array()}};
  const auto [first_label, last_label] = request.params.equal_range("label");
  std::vector<std::string> labels;
  std::transform(first_label, last_label, std::back_inserter(labels),
                 [](const auto& param) { return param.second; });
  const std::string only =
      address && live->plan->client_at(*address) ? live->plan->client_at(*address)->name : "";
  if (address) body["lookup"] = address_json(*live->plan, *address);
  for (const revision::Object* object : objects->list(kind)) {
    if (!name.empty() && object != objects->find(kind, name)) continue;
    if (address && object->name != only) continue;
    const plan::Client* client = kind == "client" ? live->plan->client_named(object->name) : nullptr;
    if (!labels.empty() && (client == nullptr || !has_labels(*client, labels))) continue;
    json row =
        kind == revision::kDictionary ? json{{"text", object->text}} : json_of(revision::table_of(*object));
    row["name"] = object->name;
    body["objects"].push_back(std::move(row));
  }
  if (!name.empty() && body["objects"].empty())
    return problem(asked.response, revision::not_found(kind, name, *objects));
  answer(asked.response, body);
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

void explain(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"client", "packet", "assume", "at"});
  if (!body) return;
  const auto refuse = [&](const std::string& why) { problem(asked.response, 400, "Not understood", why); };
  std::map<std::string, std::string> texts;
  for (const char* key : {"client", "packet", "assume", "at"}) {
    auto text = text_in(*body, key);
    if (!text) return refuse(text.error().text);
    texts[key] = std::move(*text);
  }
  if (!texts["assume"].empty() && texts["assume"] != "proven" && texts["assume"] != "refused")
    return refuse("'assume' is neither proven nor refused");
  const auto live = asked.server.plan();
  const plan::Client* client = live->plan->client_named(texts["client"]);
  if (client == nullptr) {
    std::vector<std::string> names;
    for (const plan::Client& known : live->plan->clients) names.push_back(known.name);
    const auto near = nearest(texts["client"], names);
    return problem(asked.response, 404, "Not found",
                   fmt::format("client '{}' not found{}", escaped(texts["client"]),
                               near ? fmt::format("; nearest: '{}'", escaped(*near)) : ""));
  }
  const auto octets = from_hex(texts["packet"]);
  if (!octets) return refuse(octets.error().at("packet").text);
  const auto packet = wire::PacketView::parse(*octets);
  if (!packet) return refuse(packet.error().at("packet").text);
  WallTime at = now();
  if (!texts["at"].empty()) {
    const auto given = parse_time(texts["at"]);
    if (!given) return refuse(given.error().at("at").text);
    at = *given;
  }
  const auto explanation =
      decide::explain(*live->plan, {*packet, *client, packet->code() == wire::Code::accounting_request, at},
                      texts["assume"] == "refused" ? decide::Assume::refused : decide::Assume::proven);
  json trail = json::array();
  for (const std::string& line : explanation.lines) trail.push_back(line);
  answer(asked.response, {{"outcome", decide::name_of(explanation.outcome)},
                          {"summary", explanation.summary},
                          {"trail", trail},
                          {"plan_revision", live->revision}});
}

void show_audit(const Asked& asked) {
  const auto& request = asked.request;
  revision::AuditQuery query{request.get_param_value("author"), request.get_param_value("action"),
                             request.get_param_value("subject"),
                             std::min<std::size_t>(number_in(request, "most").value_or(100), kMostRows)};
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
  Octets octets(32);
  server::SystemRandom().fill(octets);
  const std::string text = to_hex(octets);
  const revision::Token token{*name, *role, now(), asked.caller.name, std::nullopt};
  const revision::AuditEntry entry{0,
                                   now(),
                                   asked.caller.name,
                                   std::string(revision::name_of(asked.caller.role)),
                                   asked.caller.from,
                                   "token create",
                                   "token " + *name,
                                   fmt::format("role {}", revision::name_of(*role))};
  const Status added = asked.server.with_archive([&](revision::Archive& archive) {
    return archive.add_token(token, revision::sha256(view_of(text)), entry);
  });
  if (!added) return problem(asked.response, added.error());
  answer(asked.response, {{"name", *name}, {"role", revision::name_of(*role)}, {"token", text}});
}

void revoke_token(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"name"});
  if (!body) return;
  const auto name = text_in(*body, "name");
  if (!name) return problem(asked.response, 400, "Not understood", name.error().text);
  const revision::AuditEntry entry{0,
                                   now(),
                                   asked.caller.name,
                                   std::string(revision::name_of(asked.caller.role)),
                                   asked.caller.from,
                                   "token revoke",
                                   "token " + *name,
                                   ""};
  const Status revoked = asked.server.with_archive(
      [&](revision::Archive& archive) { return archive.revoke_token(*name, now(), entry); });
  if (!revoked) return problem(asked.response, revoked.error());
  answer(asked.response, {{"name", *name}});
}

}  // namespace jembatan::admin
