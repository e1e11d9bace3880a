#include "cli/objects.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "bodies/value.h"
#include "cli/assignment.h"
#include "document/write.h"
#include "revision/objects.h"

namespace jembatan::cli {

using nlohmann::json;

namespace {

std::string lookup_text(const json& lookup) {
  const std::string address = lookup.value("address", "");
  if (lookup["client"].is_null()) return fmt::format("{} belongs to no client\n", address);
  std::string out = fmt::format("{} is client '{}'", address, lookup.value("client", ""));
  for (const json& shadowed : lookup.value("shadowed", json::array()))
    out += fmt::format(", before '{}' ({})", shadowed.value("client", ""), shadowed.value("prefix", ""));
  return out + "\n";
}

// "pier-2" before "pier-10": numbers are compared as numbers.
std::string number_order(const std::string& name) {
  std::string out;
  for (std::size_t at = 0; at < name.size();) {
    const std::size_t end = std::min(name.find_first_not_of("0123456789", at), name.size());
    if (end == at) {
      out += name[at++];
      continue;
    }
    out += fmt::format("{:0>20}", name.substr(at, end - at));
    at = end;
  }
  return out;
}

Exit list_objects(const Listing& listing, const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  std::vector<std::pair<std::string, std::string>> query{{"kind", listing.kind}};
  for (const std::string& label : arguments.all("--label")) query.emplace_back("label", label);
  for (const char* part : {"address", "group", "realm"})
    if (arguments.has(fmt::format("--{}", part)))
      query.emplace_back(part, arguments.get(fmt::format("--{}", part)));
  const auto body = node->call("GET", "/v1/plan/objects", query);
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
    return Exit::done;
  }
  if (body->contains("lookup")) terminal.out(lookup_text(body->at("lookup")));
  const json& objects = body->at("objects");
  if (objects.empty()) {
    if (!body->contains("lookup")) terminal.line(fmt::format("no {} found", listing.one()));
    return Exit::done;
  }
  std::vector<std::vector<std::string>> rows;
  for (const json& object : objects) rows.push_back(listing.row(object));
  // Rules stand in their own order.
  if (!revision::kind_named(listing.kind)->ordered)
    std::stable_sort(rows.begin(), rows.end(), [](const auto& a, const auto& b) {
      return number_order(a.front()) < number_order(b.front());
    });
  Table table(listing.heading);
  for (auto& row : rows) table.add(std::move(row));
  terminal.table(table);
  if (objects.size() > 20) terminal.line(fmt::format("{} of them", objects.size()));
  return Exit::done;
}

Exit show_object(const Listing& listing, const Arguments& arguments, Terminal& terminal) {
  const std::string& kind = listing.kind;
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body =
      node->call("GET", "/v1/plan/objects", {{"kind", kind}, {"name", arguments.positionals().front()}});
  if (!body) return report(body.error(), terminal);
  const json& object = body->at("objects").front();
  if (arguments.has("--json")) {
    terminal.line(object.dump(2));
    return Exit::done;
  }
  // JSON has lost the order of keys; the plan's own is put back by the object's canonical form.
  const auto table = bodies::value_of(object);
  if (table) terminal.out(revision::object_of(kind, *table).text);
  if (listing.note != nullptr) terminal.line(listing.note(object));
  return Exit::done;
}

Exit change(const std::string& what, const std::string& kind, const Arguments& arguments,
            Terminal& terminal) {
  json fields = json::object();
  const Status read = read_fields(arguments.positionals(), fields);
  if (!read) return report(read.error(), terminal);
  json body = one_change(what, kind, arguments.positionals().front(), fields);
  if (const auto placed = add_place(arguments, body["changes"][0]); !placed)
    return report(placed.error(), terminal);
  return send_change(arguments, terminal, "/v1/plan/change", std::move(body));
}

Exit show_single(const std::string& kind, const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/plan/objects", {{"kind", kind}});
  if (!body) return report(body.error(), terminal);
  const json& objects = body->at("objects");
  const json object = objects.empty() ? json::object() : objects.front();
  if (arguments.has("--json")) {
    terminal.line(object.dump(2));
  } else if (objects.empty()) {
    terminal.line(fmt::format("the plan has no [{}]: every key has its default (docs/plan.md)", kind));
  } else if (auto table = bodies::value_of(object)) {
    document::remove_entry(*table, "name");
    terminal.out(revision::object_of(kind, *table).text);
  }
  return Exit::done;
}

}  // namespace

json one_change(const std::string& what, const std::string& kind, const std::string& name, json fields) {
  return {{"changes",
           json::array({{{"do", what}, {"kind", kind}, {"name", name}, {"fields", std::move(fields)}}})}};
}

Status read_fields(const std::vector<std::string>& words, json& fields) {
  for (std::size_t i = 1; i < words.size(); ++i) {
    if (const Status read = read_assignment(words[i], fields); !read) return read;
  }
  return {};
}

std::string cell(const json& object, const std::string& key, std::size_t most) {
  const auto found = object.find(key);
  if (found == object.end()) return "-";
  return cut(found->is_string() ? escaped(found->get<std::string>()) : found->dump(), most);
}

std::string list_text(const json& object, const std::string& key) {
  const json items = object.value(key, json::array());
  std::vector<std::string> out;
  for (const json& item : items.is_array() ? items : json::array({items}))
    out.push_back(item.is_string() ? escaped(item.get<std::string>()) : item.dump());
  return out.empty() ? "-" : join(out, ", ");
}

std::string pairs_text(const json& table) {
  std::vector<std::string> parts;
  for (const auto& [key, value] : table.items())
    parts.push_back(key + "=" + (value.is_string() ? value.get<std::string>() : value.dump()));
  return parts.empty() ? "-" : join(parts, " ");
}

std::string Listing::noun() const {
  std::string out = kind;
  std::replace(out.begin(), out.end(), '_', '-');
  return out;
}

std::string Listing::one() const {
  if (kind == "access") return "access rule";
  std::string out = kind;
  std::replace(out.begin(), out.end(), '_', ' ');
  return out;
}

std::vector<Option> place_options() {
  return {{"--before", "NAME", "to stand before this one"},
          {"--after", "NAME", "to stand behind this one"},
          {"--first", "", "to stand before all others"},
          {"--last", "", "to stand behind all others"}};
}

Result<bool> add_place(const Arguments& arguments, json& change) {
  int given = 0;
  for (const char* place : {"--before", "--after", "--first", "--last"})
    given += arguments.has(place) ? 1 : 0;
  if (given > 1) return fail(Errc::malformed, "one of --before, --after, --first and --last");
  if (arguments.has("--before")) change["before"] = arguments.get("--before");
  if (arguments.has("--after")) change["after"] = arguments.get("--after");
  if (arguments.has("--first")) change["first"] = true;
  return given == 1;
}

Command rename_command(const Listing& listing) {
  return {listing.noun() + " rename",
          fmt::format("Give {} another name", with_article(listing.one())),
          fmt::format("jembatan {} rename {} kerapu-bow-1 --node node.toml", listing.noun(),
                      listing.name_example),
          change_options(),
          {"NAME", "its name, and the new one", true, true},
          [kind = listing.kind](const Arguments& a, Terminal& t) {
            if (a.positionals().size() != 2)
              return report(fail(Errc::malformed, "two names: the one it has, and the new one"), t);
            return send_change(a, t, "/v1/plan/change",
                               one_change("set", kind, a.positionals()[0], {{"name", a.positionals()[1]}}));
          }};
}

Command list_command(const Listing& listing, std::vector<Option> filters) {
  return {listing.noun() + " list",
          fmt::format("List the {} of a node's plan", listing.one() + "s"),
          fmt::format("jembatan {} list --lab hub", listing.noun()),
          reading_options(std::move(filters)),
          {},
          [listing](const Arguments& a, Terminal& t) { return list_objects(listing, a, t); }};
}

Command show_command(const Listing& listing) {
  return {
      listing.noun() + " show",
      fmt::format("Show {} as it stands in the plan; secrets by their marks", with_article(listing.one())),
      fmt::format("jembatan {} show {} --lab hub", listing.noun(), listing.name_example),
      reading_options(),
      {"NAME", "its name", true, false},
      [listing](const Arguments& a, Terminal& t) { return show_object(listing, a, t); }};
}

Command add_command(const Listing& listing) {
  std::vector<Option> options;
  if (revision::kind_named(listing.kind)->ordered) options = place_options();
  for (Option& option : change_options()) options.push_back(std::move(option));
  return {listing.noun() + " add",
          fmt::format("Add {} to a node's plan", with_article(listing.one())),
          fmt::format("jembatan {} add {} {} --node node.toml", listing.noun(), listing.name_example,
                      listing.set_example),
          std::move(options),
          {"NAME KEY=VALUE", "its name, and its fields; @FILE as value: what is in the file", true, true},
          [kind = listing.kind](const Arguments& a, Terminal& t) { return change("add", kind, a, t); }};
}

Command set_command(const Listing& listing) {
  return {
      listing.noun() + " set",
      fmt::format("Change fields of {}; KEY= takes one away, KEY+= and KEY-= change a list",
                  with_article(listing.one())),
      fmt::format("jembatan {} set {} {} --node node.toml", listing.noun(), listing.name_example,
                  listing.set_example),
      change_options(),
      {"NAME KEY=VALUE", "its name, and what is to change; @FILE as value: what is in the file", true, true},
      [kind = listing.kind](const Arguments& a, Terminal& t) { return change("set", kind, a, t); }};
}

Command remove_command(const Listing& listing) {
  return {listing.noun() + " remove",
          fmt::format("Take {} out of a node's plan", with_article(listing.one())),
          fmt::format("jembatan {} remove {} --node node.toml", listing.noun(), listing.name_example),
          change_options(),
          {"NAME", "its name", true, false},
          [kind = listing.kind](const Arguments& a, Terminal& t) { return change("remove", kind, a, t); }};
}

Command switch_command(const Listing& listing, const std::string& verb, const std::string& summary) {
  return {listing.noun() + " " + verb,
          summary,
          fmt::format("jembatan {} {} {} --node node.toml", listing.noun(), verb, listing.name_example),
          change_options(),
          {"NAME", "its name", true, false},
          [kind = listing.kind, on = verb == "enable"](const Arguments& a, Terminal& t) {
            return send_change(a, t, "/v1/plan/change",
                               one_change("set", kind, a.positionals().front(), {{"enabled", on}}));
          }};
}

std::vector<Command> single_commands(const Single& single) {
  return {{single.noun + " show",
           "Show " + single.what,
           fmt::format("jembatan {} show --lab hub", single.noun),
           reading_options(),
           {},
           [kind = single.kind](const Arguments& a, Terminal& t) { return show_single(kind, a, t); }},
          {single.noun + " set",
           "Say " + single.what,
           fmt::format("jembatan {} set {} --node node.toml", single.noun, single.set_example),
           change_options(),
           {"KEY=VALUE", single.keys + "; the others stay", true, true},
           [kind = single.kind](const Arguments& a, Terminal& t) {
             json fields = json::object();
             std::vector<std::string> words{""};
             words.insert(words.end(), a.positionals().begin(), a.positionals().end());
             if (const Status read = read_fields(words, fields); !read) return report(read.error(), t);
             return send_change(a, t, "/v1/plan/change", one_change("put", kind, "", fields));
           }}};
}

}  // namespace jembatan::cli
