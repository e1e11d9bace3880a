#include "admin/plan_calls.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include <algorithm>
#include <iterator>

#include "admin/answers.h"
#include "admin/json.h"
#include "admin/trust_calls.h"
#include "base/text.h"
#include "bodies/problems.h"
#include "bodies/value.h"
#include "decide/explain.h"
#include "document/parse.h"
#include "document/write.h"
#include "server/log.h"

namespace jembatan::admin {
namespace {

using nlohmann::json;
using revision::Applied;
using revision::Edit;
using revision::Keeper;

json json_of_revision(const revision::Revision& r) {
  return {{"number", r.number},      {"at", text_of(r.at)},         {"author", r.author},
          {"source", r.source},      {"message", r.message},        {"summary", r.summary},
          {"added", r.counts.added}, {"changed", r.counts.changed}, {"removed", r.counts.removed},
          {"moved", r.counts.moved}};
}

// What stands in the plan as TOML; null if nothing does.
json typed(const std::string& toml) {
  if (toml.empty()) return nullptr;
  document::Problems ignored;
  const auto file = document::parse("", "x = " + toml, ignored);
  return file && file->root.entries.size() == 1 ? bodies::json_of(file->root.entries.front().value)
                                                : json(toml);
}

json json_of_changes(const std::vector<revision::ObjectChange>& changes) {
  json out = json::array();
  for (const auto& change : changes) {
    if (change.what == revision::What::renumbered) continue;
    json fields = json::array();
    for (const auto& field : change.fields)
      fields.push_back(
          {{"field", field.field}, {"before", typed(field.before)}, {"after", typed(field.after)}});
    json row{{"what", revision::name_of(change.what)}, {"kind", change.kind}, {"name", change.name}};
    if (!fields.empty()) row["fields"] = fields;
    if (!change.place.empty()) row["place"] = change.place;
    out.push_back(std::move(row));
  }
  return out;
}

void answer_applied(const Asked& asked, const Result<Applied>& applied, const document::Problems& problems) {
  if (!applied) return problem(asked.response, applied.error(), problems);
  json body = bodies::json_of(problems);
  body["plan_revision"] = applied->revision;
  body["changed"] = applied->changed;
  body["changes"] = json_of_changes(applied->changes);
  const json resolved = json_of_resolved(*applied);
  if (!resolved.empty()) body["resolved"] = resolved;
  answer(asked.response, body);
}

// What the body says of who, why, and on what base; a problem is answered if it is not understood.
std::optional<revision::Wish> read_wish(const Asked& asked, const json& body) {
  revision::Wish out{asked.caller, "", std::nullopt, false, false, now(), "apply"};
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
  for (const auto& [key, wanted] : {std::pair{"dry_run", &out.dry_run}, std::pair{"force", &out.force}}) {
    const auto given = body.find(key);
    if (given == body.end()) continue;
    if (!given->is_boolean()) return refuse(fmt::format("'{}' is neither true nor false", key));
    *wanted = given->get<bool>();
  }
  return out;
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
  if (!row.is_object()) return fail(Errc::malformed, "a change is no JSON object");
  Edit out;
  std::map<std::string, std::string> texts;
  for (const char* key : {"do", "kind", "name", "before", "after", "place"}) {
    auto text = text_in(row, key);
    if (!text) return text.error();
    texts[key] = std::move(*text);
  }
  const auto doing = kDoings.find(texts["do"]);
  if (doing == kDoings.end())
    return fail(Errc::malformed,
                fmt::format("'do' is '{}'; allowed: add, set, put, remove, move", escaped(texts["do"])));
  out.what = doing->second;
  out.kind = texts["kind"];
  out.name = texts["name"];
  out.before = texts["before"];
  out.after = texts["after"];
  out.place = texts["place"];
  out.first = row.value("first", json(false)) == json(true);
  const json fields = row.value("fields", json::object());
  if (!fields.is_object()) return fail(Errc::malformed, "'fields' is no JSON object");
  for (const auto& [path, value] : fields.items()) {
    if (value.is_null()) {
      out.fields.push_back({path, std::nullopt});
      continue;
    }
    auto read = bodies::value_of(value);
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

// Empty parts fit everybody.
bool is_wanted(const plan::User& user, const std::string& group, const std::string& realm) {
  const auto& groups = user.groups;
  if (!group.empty() && std::find(groups.begin(), groups.end(), group) == groups.end()) return false;
  return realm.empty() || identity::comparable(user.name).ends_with("@" + identity::comparable(realm));
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

// Secrets that are to be made here: { "generate": true }.
void generate_secrets(Edit& edit) {
  for (revision::FieldEdit& field : edit.fields) {
    if (!field.value || field.value->kind != document::Kind::table) continue;
    const document::Value* generate = field.value->find("generate");
    if (generate != nullptr && generate->boolean) field.value = document::text_value(new_secret());
  }
}

}  // namespace

void reload_plan(const Asked& asked) {
  server::Server::Reload how;
  if (!asked.request.body.empty()) {
    const auto body = read_body(asked.request, asked.response, {"force", "dry_run"});
    if (!body) return;
    how.force = body->value("force", json(false)) == json(true);
    how.dry_run = body->value("dry_run", json(false)) == json(true);
  }
  document::Problems problems;
  const auto applied = asked.server.reload(asked.caller, problems, how);
  if (!applied && !how.dry_run)
    server::log_warning(fmt::format("plan: reload asked for by {}: {}; the active plan stays in force",
                                    escaped(asked.caller.name), applied.error().text));
  answer_applied(asked, applied, problems);
}

namespace {

// The files of a plan that a body brings; nothing, with a problem answered, if they are none.
std::optional<std::vector<plan::SourceFile>> files_in(const Asked& asked, const json& body) {
  const auto refuse = [&](const char* why) {
    problem(asked.response, 400, "Not understood", why);
    return std::nullopt;
  };
  std::vector<plan::SourceFile> out;
  const json given = body.value("files", json::array());
  if (!given.is_array()) return refuse("'files' is no array");
  for (const json& file : given) {
    if (!file.is_object() || !file.value("name", json()).is_string() ||
        !file.value("text", json()).is_string())
      return refuse("a file is {\"name\": TEXT, \"text\": TEXT}");
    out.push_back({file["name"].get<std::string>(), file["text"].get<std::string>()});
  }
  if (out.empty()) return refuse("'files' is empty: a plan has one or more");
  return out;
}

// What these files lead to, as the body brings it along.
plan::Outside outside_in(const Asked& asked, const json& body) {
  plan::Outside out;
  out.file = looked_up_in(texts_in(body, "secret_files"), "secret file");
  out.variable = looked_up_in(texts_in(body, "variables"), "variable");
  out.resolve = [&server = asked.server](const std::string& host) {
    return server.hosts().addresses_of(host);
  };
  out.now = now();
  return out;
}

}  // namespace

void apply_plan(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response,
                              {"files", "secret_files", "variables", "message", "base", "dry_run", "force"});
  if (!body) return;
  const auto wish = read_wish(asked, *body);
  if (!wish || (!wish->dry_run && !changed_by_commands(asked))) return;
  const auto files = files_in(asked, *body);
  if (!files) return;
  document::Problems problems;
  const auto applied = asked.server.change_plan(
      [&](Keeper& keeper) { return keeper.apply(*files, outside_in(asked, *body), *wish, problems); });
  answer_applied(asked, applied, problems);
}

// Nothing is changed: the plan is read as if it were applied.
void preview_plan(const Asked& asked) {
  const auto body =
      read_body(asked.request, asked.response,
                {"files", "secret_files", "variables", "since", "until", "user", "client", "realm", "most"});
  if (!body) return;
  const auto files = files_in(asked, *body);
  if (!files) return;
  journal::Query query;
  for (const auto& [key, part] :
       {std::pair{"user", &query.user}, {"client", &query.client}, {"realm", &query.realm}}) {
    auto text = text_in(*body, key);
    if (!text) return problem(asked.response, text.error());
    *part = std::move(*text);
  }
  for (const auto& [key, part] : {std::pair{"since", &query.since}, {"until", &query.until}}) {
    const auto text = text_in(*body, key);
    if (!text) return problem(asked.response, text.error());
    if (text->empty()) continue;
    const auto moment = parse_moment(*text, now());
    if (!moment) return problem(asked.response, moment.error().at(key));
    *part = *moment;
  }
  query.most = std::min<std::size_t>(
      body->value("most", json(100)).is_number_unsigned() ? body->value("most", std::size_t{100}) : 100,
      10000);
  document::Problems problems;
  const auto read = asked.server.with_revisions([&](Keeper& keeper) {
    const revision::Wish wish{asked.caller, "", std::nullopt, true, true, now(), "apply"};
    return keeper.apply(*files, outside_in(asked, *body), wish, problems);
  });
  if (!read) return problem(asked.response, read.error(), problems);
  const auto preview = asked.server.past_requests().preview(query, read->plan);
  if (!preview) return problem(asked.response, preview.error());
  json list = json::array();
  for (const journal::Otherwise& one : preview->otherwise) {
    json row = json_of(one.was);
    row["would"] = one.would;
    row["differences"] = one.differences;
    list.push_back(std::move(row));
  }
  answer(asked.response,
         {{"looked_at", preview->looked_at},
          {"not_told", preview->not_told},
          {"differ", preview->differ},
          {"otherwise", list},
          {"stopped_before", preview->stopped_before == 0 ? json(nullptr) : json(preview->stopped_before)}});
}

void change_plan(const Asked& asked) {
  const auto body = read_body(asked.request, asked.response, {"changes", "message", "base", "dry_run"});
  if (!body) return;
  auto wish = read_wish(asked, *body);
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
  wish->what = edits.size() > 1 ? "plan change"
                                : fmt::format("{} {}", edits.front().kind, rows.front().value("do", ""));
  answer_applied(asked, make_change(asked, edits, *wish, problems), problems);
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
      [&](Keeper& keeper) { return keeper.restore(number.get<std::uint64_t>(), *wish, problems); });
  answer_applied(asked, applied, problems);
}

void list_revisions(const Asked& asked) {
  const auto most = most_in(asked.request, asked.response);
  if (!most) return;
  revision::When when;
  if (!moment_in(asked.request, asked.response, "since", when.since) ||
      !moment_in(asked.request, asked.response, "until", when.until))
    return;
  const auto found =
      asked.server.with_archive([&](revision::Archive& archive) { return archive.history(when, *most); });
  if (!found) return problem(asked.response, found.error());
  json list = json::array();
  for (const auto& row : *found) list.push_back(json_of_revision(row));
  answer(asked.response, {{"revisions", list}, {"plan_revision", asked.server.plan()->revision}});
}

void show_difference(const Asked& asked) {
  const auto to = number_in(asked.request, asked.response, "to", asked.server.plan()->revision);
  if (!to) return;
  const auto from = number_in(asked.request, asked.response, "from", *to == 0 ? 0 : *to - 1);
  if (!from) return;
  const auto found =
      asked.server.with_revisions([&](Keeper& keeper) { return keeper.difference(*from, *to); });
  if (!found) return problem(asked.response, found.error());
  json body{{"from", *from}, {"to", *to}, {"changes", json_of_changes(found->changes)}};
  const auto known =
      asked.server.with_archive([&](revision::Archive& archive) { return archive.revision(*to); });
  if (known) body["revision"] = json_of_revision(*known);
  answer(asked.response, body);
}

void show_files(const Asked& asked) {
  const auto number = number_in(asked.request, asked.response, "revision", asked.server.plan()->revision);
  if (!number) return;
  const bool shown = asked.request.get("secrets") == "true";
  if (shown && asked.caller.role != revision::Role::administrator)
    return problem(asked.response, 403, "Not allowed", "secrets are shown to the role administrator alone");
  const auto files = asked.server.with_revisions([&](Keeper& keeper) {
    return keeper.files(*number, shown ? Keeper::Secrets::shown : Keeper::Secrets::kept);
  });
  if (!files) return problem(asked.response, files.error());
  const auto entry =
      audit_entry(asked, "secret export", fmt::format("revision {}", *number), "all secrets of the plan");
  if (shown && !put_on_record(asked, entry)) return;
  json list = json::array();
  for (const auto& file : *files) list.push_back({{"name", file.name}, {"text", file.text}});
  answer(asked.response, {{"revision", *number}, {"files", list}});
}

void list_objects(const Asked& asked) {
  const auto& request = asked.request;
  const std::string kind = request.get("kind");
  const std::string name = request.get("name");
  if (revision::kind_named(kind) == nullptr) {
    std::vector<std::string> kinds;
    for (const auto& known : revision::kinds()) kinds.emplace_back(known.name);
    return problem(asked.response, 400, "Not understood",
                   fmt::format("'kind={}'; allowed: {}", escaped(kind), join(kinds, ", ")));
  }
  const auto live = asked.server.plan();
  std::optional<IpAddress> address;
  if (request.has("address")) {
    const auto parsed = IpAddress::parse(request.get("address"));
    if (!parsed) return problem(asked.response, 400, "Not understood", parsed.error().at("address").text);
    address = *parsed;
  }
  const auto objects =
      asked.server.with_archive([&](revision::Archive& archive) { return archive.objects(live->revision); });
  if (!objects) return problem(asked.response, objects.error());
  json body{{"kind", kind}, {"plan_revision", live->revision}, {"objects", json::array()}};
  const auto [first_label, last_label] = request.query.equal_range("label");
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
    const plan::User* user = kind == "user" ? live->plan->user_named(object->name) : nullptr;
    if (user != nullptr && !is_wanted(*user, request.get("group"), request.get("realm"))) continue;
    json row = kind == revision::kDictionary ? json{{"text", object->text}}
                                             : bodies::json_of(revision::table_of(*object));
    row["name"] = object->name;
    body["objects"].push_back(std::move(row));
  }
  if (!name.empty() && body["objects"].empty())
    return problem(asked.response, revision::not_found(kind, name, *objects));
  answer(asked.response, body);
}

}  // namespace jembatan::admin
