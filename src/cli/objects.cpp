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

constexpr std::size_t kWidth = 100;
constexpr std::size_t kNarrowest = 12;

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

// Cuts the elastic column so that rows have 100 characters at the most.
void fit(std::vector<std::vector<std::string>>& rows, const Listing& listing) {
  std::size_t left = kWidth;
  for (std::size_t column = 0; column < listing.heading.size(); ++column) {
    if (column == listing.elastic) continue;
    std::size_t widest = listing.heading[column].size();
    for (const auto& row : rows) widest = std::max(widest, row[column].size());
    left -= std::min(left, widest + 2);
  }
  for (auto& row : rows) row[listing.elastic] = cut(row[listing.elastic], std::max(left, kNarrowest));
}

Exit list_objects(const Listing& listing, const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  std::vector<std::pair<std::string, std::string>> query{{"kind", listing.kind}};
  for (const std::string& label : arguments.all("--label")) query.emplace_back("label", label);
  if (arguments.has("--address")) query.emplace_back("address", arguments.get("--address"));
  const auto body = node->call("GET", "/v1/plan/objects", query);
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
    return Exit::done;
  }
  if (body->contains("lookup")) terminal.out(lookup_text(body->at("lookup")));
  const json& objects = body->at("objects");
  if (objects.empty()) {
    if (!body->contains("lookup")) terminal.line(fmt::format("no {} found", listing.kind));
    return Exit::done;
  }
  std::vector<std::vector<std::string>> rows;
  for (const json& object : objects) rows.push_back(listing.row(object));
  // Rules stand in their own order.
  if (!revision::kind_named(listing.kind)->ordered)
    std::stable_sort(rows.begin(), rows.end(), [](const auto& a, const auto& b) {
      return number_order(a.front()) < number_order(b.front());
    });
  fit(rows, listing);
  Table table(listing.heading);
  for (auto& row : rows) table.add(std::move(row));
  terminal.out(table.text());
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
  return send_change(arguments, terminal, "/v1/plan/change",
                     one_change(what, kind, arguments.positionals().front(), fields));
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

std::string cut(const std::string& text, std::size_t most) {
  if (text.size() <= most) return text;
  std::size_t end = most - 1;
  while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xC0U) == 0x80U)
    --end;  // not inside a character
  return text.substr(0, end) + "…";
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

Command list_command(const Listing& listing, std::vector<Option> filters) {
  return {listing.noun() + " list",
          fmt::format("List the {}s of a node's plan", listing.noun()),
          fmt::format("jembatan {} list --lab hub", listing.noun()),
          reading_options(std::move(filters)),
          {},
          [listing](const Arguments& a, Terminal& t) { return list_objects(listing, a, t); }};
}

Command show_command(const Listing& listing) {
  return {listing.noun() + " show",
          fmt::format("Show one {} as it stands in the plan; secrets by their marks", listing.noun()),
          fmt::format("jembatan {} show {} --lab hub", listing.noun(), listing.name_example),
          reading_options(),
          {"NAME", "its name", true, false},
          [listing](const Arguments& a, Terminal& t) { return show_object(listing, a, t); }};
}

Command add_command(const Listing& listing) {
  return {listing.noun() + " add",
          fmt::format("Add a {} to a node's plan", listing.noun()),
          fmt::format("jembatan {} add {} {} --node node.toml", listing.noun(), listing.name_example,
                      listing.set_example),
          change_options(),
          {"NAME KEY=VALUE", "its name, and its fields; @FILE as value: what is in the file", true, true},
          [kind = listing.kind](const Arguments& a, Terminal& t) { return change("add", kind, a, t); }};
}

Command set_command(const Listing& listing) {
  return {
      listing.noun() + " set",
      fmt::format("Change fields of a {}; KEY= takes one away, KEY+= and KEY-= change a list",
                  listing.noun()),
      fmt::format("jembatan {} set {} {} --node node.toml", listing.noun(), listing.name_example,
                  listing.set_example),
      change_options(),
      {"NAME KEY=VALUE", "its name, and what is to change; @FILE as value: what is in the file", true, true},
      [kind = listing.kind](const Arguments& a, Terminal& t) { return change("set", kind, a, t); }};
}

Command remove_command(const Listing& listing) {
  return {listing.noun() + " remove",
          fmt::format("Take a {} out of a node's plan", listing.noun()),
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
