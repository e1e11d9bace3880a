// jembatan device play: stands in for a device, so that requests about sessions can be tried.
#include <fmt/format.h>

#include <atomic>
#include <charconv>
#include <condition_variable>
#include <mutex>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/device.h"
#include "cli/node_access.h"
#include "cli/packet_text.h"
#include "cli/peer.h"

namespace jembatan::cli {
namespace {

void print_request(const Device::Came& came, const dictionary::Catalogue& names, Terminal& terminal) {
  const auto packet = wire::PacketView::parse(came.request);
  const std::string what = packet ? wire::name_of(packet->code()) : "a malformed packet";
  terminal.line(fmt::format("{} from {}: {}", terminal.coloured(what, Colour::bold), came.from.text(),
                            terminal.coloured(came.what, came.genuine ? Colour::good : Colour::bad)));
  if (came.genuine) terminal.out(attributes_text(dictionary::describe(names, *packet)));
}

Exit play(const Arguments& arguments, Terminal& terminal) {
  const auto answer = parse_device_answer(arguments.get("--answer", "ack"));
  if (!answer) return report(answer.error().at("--answer"), terminal);
  std::size_t times = 0;
  const std::string count = arguments.get("--count", "0");
  const auto [end, wrong] = std::from_chars(count.data(), count.data() + count.size(), times);
  if (wrong != std::errc() || end != count.data() + count.size())
    return report(fail(Errc::malformed, fmt::format("--count is '{}'; allowed: a number", escaped(count))),
                  terminal);
  const auto device = find_played_device(arguments);
  if (!device) return report(device.error(), terminal);
  std::mutex mutex;
  std::condition_variable came;
  std::size_t taken = 0;
  const auto running = Device::start(device->to, wire::SharedSecret(device->secret), *answer,
                                     [&](const Device::Came& request) {
                                       const std::lock_guard lock(mutex);
                                       print_request(request, dictionary::standard(), terminal);
                                       if (request.genuine) ++taken;
                                       came.notify_one();
                                     });
  if (!running) return report(running.error(), terminal);
  {
    const std::lock_guard lock(mutex);
    terminal.line(fmt::format("{} listens; answer: {}", device->called, arguments.get("--answer", "ack")));
  }
  std::unique_lock lock(mutex);
  came.wait(lock, [&] { return times > 0 && taken >= times; });
  return Exit::done;
}

}  // namespace

std::vector<Command> device_commands() {
  return {
      {"device play",
       "Play the device of a client: take Disconnect- and CoA-Requests and answer them (RFC 5176)",
       "jembatan device play --lab edge --client kerapu-deck-2 --answer 'nak 503'",
       {{"--at", "ADDRESS[:PORT]",
         "where to listen; default: the client's address and authorization_port; 127.0.0.1 for a client with "
         "many addresses"},
        {"--secret-file", "FILE", "file with the shared secret, if no client is named"},
        {"--secret", "TEXT", "the shared secret itself (a file is safer: shells keep a history)"},
        {"--client", "NAME", "the client of a node's plan: port and secret are taken from there"},
        {"--lab", "NAME", "that node, of the demo chain: edge, hub, reef-1, reef-2"},
        {"--node", "FILE", "or the one of this node file"},
        {"--answer", "TEXT", "ack (default), nak, nak 503 (an Error-Cause), silent"},
        {"--count", "NUMBER", "end after so many requests; default: go on until interrupted"}},
       {},
       play}};
}

}  // namespace jembatan::cli
