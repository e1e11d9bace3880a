#pragma once
// The bodies of the API.
#include <nlohmann/json_fwd.hpp>

#include "accounting/store.h"
#include "forward/standing.h"
#include "server/server.h"

namespace jembatan::admin {

nlohmann::json json_of(const server::NodeStatus& status);
nlohmann::json json_of(const accounting::Session& session);
/// Without its attributes, and with them.
/// [{"name", "value", "depth"}]
nlohmann::json attributes_json(OctetView attributes, const dictionary::Catalogue& names);
nlohmann::json json_of(const accounting::Record& record);
nlohmann::json json_of(const accounting::Record& record, const dictionary::Catalogue& names);
nlohmann::json json_of(const std::variant<engine::Event, engine::Notice>& item);
nlohmann::json json_of(const forward::Standing& standing);
nlohmann::json json_of(const engine::MirrorTally& tally);
/// The host names of the clients and groups that were changed, with their addresses now.
nlohmann::json json_of_resolved(const revision::Applied& applied);
/// Without its trail and packets, and with them.
nlohmann::json json_of(const journal::Entry& entry);
nlohmann::json json_of(const journal::Entry& entry, const dictionary::Catalogue& names);

}  // namespace jembatan::admin
