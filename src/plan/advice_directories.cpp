// Advice about directories.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "plan/advice.h"

namespace jembatan::plan {
namespace {

bool is_on_this_machine(const DirectoryAccess::Server& server) {
  const auto address = IpAddress::parse(server.host);
  return server.host == "localhost" || (address && address->loopback());
}

bool is_used(const Plan& plan, std::size_t directory) {
  return std::any_of(plan.realms.begin(), plan.realms.end(),
                     [directory](const Realm& realm) { return realm.directory == directory; });
}

}  // namespace

void advise_of_directories(const Plan& plan, const Places& places,
                           const std::function<void(const Place&, const Advice&)>& report) {
  for (std::size_t i = 0; i < plan.directories.size(); ++i) {
    const Directory& directory = plan.directories[i];
    const DirectoryAccess& access = directory.access;
    const auto clear = std::find_if(access.servers.begin(), access.servers.end(), [&](const auto& server) {
      return access.plain && !server.is_tls && !is_on_this_machine(server);
    });
    if (clear != access.servers.end())
      report(places.directories[i], {"in-the-clear",
                                     fmt::format("passwords travel to {} of directory '{}' in the clear",
                                                 clear->url, directory.name),
                                     "encryption = \"starttls\", or ldaps://"});
    if (!is_used(plan, i))
      report(places.directories[i],
             {"unused-directory", fmt::format("no realm has its people in directory '{}'", directory.name),
              fmt::format("directory = \"{}\" of a realm that is handled here", directory.name)});
    for (std::size_t c = 0; c < plan.clients.size(); ++c) {
      const Client& client = plan.clients[c];
      if (client.waits == Duration{0} || client.waits > access.answer_within || access.servers.size() < 2)
        continue;
      report(places.clients[c],
             {"gives-up-early",
              fmt::format("client '{}' waits {}, but directory '{}' asks its second server after {}",
                          client.name, text_of(client.waits), directory.name, text_of(access.answer_within)),
              "a shorter answer_within, or a device that waits longer"});
    }
  }
}

}  // namespace jembatan::plan
