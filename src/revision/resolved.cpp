#include "revision/resolved.h"

#include "document/write.h"

namespace jembatan::revision {
namespace {

using document::Value;

std::string name_of_table(const Value& table) {
  const Value* name = table.find("name");
  return name == nullptr ? "" : name->text;
}

Value* servers_of(Value& group) {
  for (document::Entry& entry : group.entries)
    if (entry.key == "server" && entry.value.kind == document::Kind::array) return &entry.value;
  return nullptr;
}

void note_addresses(Value& server, const plan::Group& group) {
  Value addresses;
  addresses.kind = document::Kind::array;
  for (const plan::Server& one : group.servers) {
    if (one.entry == name_of_table(server) && !one.host.empty() && !one.address.unspecified())
      addresses.items.push_back(document::text_value(one.address.text()));
  }
  if (addresses.items.empty()) {
    document::remove_entry(server, "resolved");
  } else {
    document::set_entry(server, "resolved", std::move(addresses));
  }
}

}  // namespace

void note_resolved(std::string_view kind, Value& table, const plan::Plan& plan) {
  if (kind == "client") {
    const plan::Client* client = plan.client_named(name_of_table(table));
    if (client != nullptr && !client->host.empty() && client->address.length > 0)
      document::set_entry(table, "resolved", document::text_value(client->address.address.text()));
  } else if (kind == "group") {
    Value* servers = servers_of(table);
    for (const plan::Group& group : plan.groups) {
      if (servers == nullptr || group.name != name_of_table(table)) continue;
      for (Value& server : servers->items) note_addresses(server, group);
    }
  }
}

void forget_resolved(std::string_view kind, Value& table) {
  if (kind == "client") document::remove_entry(table, "resolved");
  Value* servers = kind == "group" ? servers_of(table) : nullptr;
  if (servers == nullptr) return;
  for (Value& server : servers->items) document::remove_entry(server, "resolved");
}

}  // namespace jembatan::revision
