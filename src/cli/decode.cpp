// jembatan decode: a packet explained, octet by octet.
#include <fmt/format.h>

#include <algorithm>
#include <iostream>
#include <iterator>
#include <map>
#include <nlohmann/json.hpp>
#include <optional>

#include "base/text.h"
#include "cli/capture_file.h"
#include "cli/names.h"
#include "cli/packet_text.h"
#include "cli/secrets.h"
#include "dictionary/advice.h"
#include "wire/authenticator.h"

namespace jembatan::cli {
namespace {

using dictionary::Described;
using nlohmann::json;
using wire::Authenticator;
using wire::Code;
using wire::PacketView;

struct Task {
  dictionary::CataloguePtr names;
  std::vector<NamedSecret> secrets;
  bool as_json = false;
};

// What a packet is opened with: one of several secrets is the one that its authenticators verify with.
struct Key {
  const wire::SharedSecret* secret = nullptr;
  std::string said;  // about which one it is; empty: nothing to say
};

// The Request Authenticator that replies, and the zeros that digests, are computed with (RFC 2866 §3).
Authenticator base_of(const PacketView& packet, const std::optional<Authenticator>& request) {
  if (wire::is_reply(packet.code())) return request.value_or(Authenticator{});
  return wire::is_digested(packet.code()) ? Authenticator{} : packet.authenticator();
}

bool verifies(const wire::SharedSecret& secret, const PacketView& packet,
              const std::optional<Authenticator>& request) {
  if (wire::is_reply(packet.code())) return request && wire::verify_response(packet, *request, secret);
  if (wire::is_digested(packet.code())) return wire::verify_digested_request(packet, secret);
  return wire::check_message_authenticator(packet, packet.authenticator(), secret) == wire::Signature::valid;
}

Key key_for(const Task& task, const PacketView& packet, const std::optional<Authenticator>& request) {
  if (task.secrets.empty()) return {};
  if (task.secrets.size() == 1) return {&task.secrets.front().secret, ""};
  for (const NamedSecret& one : task.secrets)
    if (verifies(one.secret, packet, request)) return {&one.secret, "secret of " + one.owner};
  return {nullptr, fmt::format("none of {} secrets verifies it", task.secrets.size())};
}

// What the secret says of the packet's authenticators, in words.
std::vector<std::string> authenticators(const Key& key, const PacketView& packet,
                                        const std::optional<Authenticator>& request) {
  if (key.secret == nullptr)
    return {"authenticators not checked: " + (key.said.empty() ? "no --secret-file" : key.said)};
  std::vector<std::string> out;
  if (!key.said.empty()) out.push_back(key.said);
  const Code code = packet.code();
  const auto verdict = [](bool right) {
    return right ? "right" : "WRONG: another secret, or a changed packet";
  };
  if (wire::is_reply(code) && !request) {
    return {"authenticators not checked: a reply's are computed with its request; give it with --request"};
  }
  if (wire::is_reply(code)) {
    out.push_back(fmt::format("Response Authenticator {}", verdict(verifies(*key.secret, packet, request))));
  } else if (wire::is_digested(code)) {
    out.push_back(fmt::format("Request Authenticator {}", verdict(verifies(*key.secret, packet, request))));
  }
  switch (wire::check_message_authenticator(packet, base_of(packet, request), *key.secret)) {
    case wire::Signature::absent:
      out.emplace_back("no Message-Authenticator");
      break;
    case wire::Signature::valid:
      out.emplace_back("Message-Authenticator right");
      break;
    case wire::Signature::wrong:
      out.emplace_back("Message-Authenticator WRONG: another secret, or a changed packet");
      break;
  }
  return out;
}

std::string ranges_text(const Described& line) {
  std::vector<std::string> out;
  for (const dictionary::Range& range : line.pieces) {
    out.push_back(range.size < 2 ? fmt::format("{}", range.at)
                                 : fmt::format("{}-{}", range.at, range.at + range.size - 1));
  }
  return join(out, " ");
}

void print(const PacketView& packet, const std::vector<Described>& lines,
           const std::vector<std::string>& checks, const std::vector<std::string>& advice,
           Terminal& terminal) {
  terminal.line(fmt::format("{}  id {}  {} octets",
                            terminal.coloured(wire::name_of(packet.code()), Colour::bold),
                            packet.identifier(), packet.octets().size()));
  Table table({"octets", "attribute", "value", "type"});
  table.add({"0", "(Code)", fmt::format("{}", packet.octets()[0]), ""});
  table.add({"1", "(Identifier)", fmt::format("{}", packet.identifier()), ""});
  table.add({"2-3", "(Length)", fmt::format("{}", packet.octets().size()), ""});
  table.add({"4-19", "(Authenticator)", "0x" + to_hex(OctetView(packet.authenticator())), ""});
  for (const Described& line : lines) {
    const std::string type = line.definition == nullptr ? "" : std::string(name_of(line.definition->type));
    table.add({ranges_text(line), std::string(2 * static_cast<std::size_t>(line.depth), ' ') + line.name,
               line.value,
               line.problem.empty() ? type : type + (type.empty() ? "! " : "  ! ") + line.problem});
  }
  terminal.table(table);
  for (const std::string& check : checks) {
    const bool wrong = check.find("WRONG") != std::string::npos;
    const Colour other = check.starts_with("authenticators not") ? Colour::dim : Colour::good;
    terminal.line(terminal.coloured(check, wrong ? Colour::bad : other));
  }
  for (const std::string& text : advice) terminal.line(terminal.coloured("advice: " + text, Colour::warn));
}

// Explains one packet; false if it is malformed.
bool explain_packet(const Task& task, OctetView octets, const std::optional<Authenticator>& request,
                    json& documents, Terminal& terminal) {
  const auto packet = PacketView::parse(octets);
  if (!packet) {
    terminal.error("not a well-formed packet: " + packet.error().text);
    return false;
  }
  const Authenticator base = wire::is_reply(packet->code()) && request ? *request : packet->authenticator();
  const Key key = key_for(task, *packet, request);
  std::optional<dictionary::Opening> opening;
  if (key.secret != nullptr) opening.emplace(dictionary::Opening{*key.secret, base});
  const auto lines = dictionary::describe(*task.names, *packet, opening ? &*opening : nullptr);
  const auto checks = authenticators(key, *packet, request);
  const auto advice = dictionary::advise(packet->code(), lines);
  if (!task.as_json) {
    print(*packet, lines, checks, advice, terminal);
    return true;
  }
  json document = packet_json(*packet, lines);
  document["authenticator"] = to_hex(OctetView(packet->authenticator()));
  document["checks"] = checks;
  document["advice"] = advice;
  documents.push_back(std::move(document));
  return true;
}

Exit decode_hex(const Task& task, const Arguments& arguments, Terminal& terminal) {
  std::string text;
  for (const std::string& part : arguments.positionals()) text += part + " ";
  if (trim(text).empty()) text.assign(std::istreambuf_iterator<char>(std::cin), {});
  const auto octets = from_hex(trim(text));
  if (!octets) return report(octets.error(), terminal);
  std::optional<Authenticator> request;
  if (arguments.has("--request")) {
    const auto request_octets = from_hex(arguments.get("--request"));
    if (!request_octets) return report(request_octets.error().at("--request"), terminal);
    const auto parsed = PacketView::parse(*request_octets);
    if (!parsed) return report(parsed.error().at("--request"), terminal);
    request = parsed->authenticator();
  }
  json documents = json::array();
  if (!explain_packet(task, *octets, request, documents, terminal)) return Exit::no;
  if (task.as_json) terminal.line(documents[0].dump(2));
  return Exit::done;
}

Exit decode_capture(const Task& task, const std::string& path, Terminal& terminal) {
  const auto capture = read_capture(path);
  if (!capture) {
    terminal.error(capture.error().text);
    return Exit::no;
  }
  json documents = json::array();
  std::map<std::tuple<Endpoint, Endpoint, std::uint8_t>, Authenticator> requests;
  std::size_t shown = 0;
  for (const Captured& captured : capture->datagrams) {
    const auto packet = PacketView::parse(captured.octets);
    if (!packet || wire::name_of(packet->code()).starts_with("code ")) continue;
    std::optional<Authenticator> request;
    if (wire::is_reply(packet->code())) {
      const auto found = requests.find({captured.to, captured.from, packet->identifier()});
      if (found != requests.end()) request = found->second;
    } else {
      requests[{captured.from, captured.to, packet->identifier()}] = packet->authenticator();
    }
    ++shown;
    if (!task.as_json) {
      terminal.line(fmt::format("{}frame {}  {}  {} → {}", shown > 1 ? "\n" : "", captured.frame,
                                text_of(captured.at), captured.from.text(), captured.to.text()));
    }
    explain_packet(task, captured.octets, request, documents, terminal);
    if (task.as_json) {
      documents.back()["frame"] = captured.frame;
      documents.back()["from"] = captured.from.text();
      documents.back()["to"] = captured.to.text();
    }
  }
  if (task.as_json) terminal.line(json{{"packets", documents}}.dump(2));
  terminal.note(fmt::format("{} frames, {} of them RADIUS packets", capture->frames, shown));
  return Exit::done;
}

Exit decode(const Arguments& arguments, Terminal& terminal) {
  Task task;
  task.as_json = arguments.has("--json");
  auto names = find_names(arguments);
  if (!names) return report(names.error(), terminal);
  task.names = std::move(*names);
  for (const std::string& file : arguments.all("--secret-file")) {
    auto secret = secret_in_file(file);
    if (!secret) return report(secret.error(), terminal);
    task.secrets.push_back({"file " + file, wire::SharedSecret(std::move(*secret))});
  }
  if (arguments.has("--plan-secrets")) {
    auto secrets = secrets_of_plan(arguments);
    if (!secrets) return report(secrets.error(), terminal);
    std::move(secrets->begin(), secrets->end(), std::back_inserter(task.secrets));
  }
  if (arguments.has("--capture")) return decode_capture(task, arguments.get("--capture"), terminal);
  return decode_hex(task, arguments, terminal);
}

}  // namespace

std::vector<Command> decode_commands() {
  std::vector<Option> options{
      {"--capture", "FILE",
       "a capture file (pcap, pcapng) instead of hexadecimal: every RADIUS packet in it"},
      {"--secret-file", "FILE",
       "file with the shared secret: opens hidden values, checks authenticators; of several, the one is "
       "taken that "
       "verifies the packet",
       false, "", true},
      {"--plan-secrets", "",
       "the secrets of all clients and servers of a node's plan: administrators alone; it is put on record"},
      {"--request", "HEX",
       "the request that a reply answers: its authenticator is needed to check and open the reply"},
      dictionary_option(),
  };
  for (Option& option : node_options()) options.push_back(std::move(option));
  options.push_back({"--json", "", "one JSON document instead of text"});
  return {{"decode",
           "Explain a packet: octet ranges, names, values, authenticators, and what an RFC forbids",
           "jembatan decode --secret-file secret 0100002c0f403f947397…",
           options,
           {"HEX", "the packet in hexadecimal; without it, standard input is read", false, true},
           decode}};
}

}  // namespace jembatan::cli
