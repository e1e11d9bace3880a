// jembatan accounting reconcile and digest: do two hops have the same records?
#include "accounting/reconcile.h"

#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "accounting/ledger_file.h"
#include "base/text.h"
#include "cli/known_nodes.h"
#include "cli/listing.h"
#include "cli/new_file.h"
#include "cli/reconciled.h"
#include "document/parse.h"
#include "host/system.h"

namespace jembatan::cli {
namespace {

using accounting::LedgerQuery;
using nlohmann::json;

Result<LedgerQuery> ledger_query(const Arguments& arguments) {
  LedgerQuery out;
  const WallTime now = host::SystemClock().now().wall;
  for (const auto& [option, time] : {std::pair("--since", &out.since), std::pair("--until", &out.until)}) {
    if (!arguments.has(option)) continue;
    const auto read = parse_moment(arguments.get(option), now);
    if (!read) return read.error().at(option);
    *time = *read;
  }
  out.realm = arguments.get("--realm");
  return out;
}

Result<std::string> salt_of(const Arguments& arguments) {
  if (!arguments.has("--salt-file")) return std::string();
  auto text = document::read_file(arguments.get("--salt-file"));
  if (!text) return text.error();
  while (!text->empty() && (text->back() == '\n' || text->back() == '\r')) text->pop_back();
  if (text->size() >= 16 && text->size() <= 200) return *text;
  return fail(Errc::malformed, fmt::format("the salt in '{}' has {} characters; allowed: 16 to 200",
                                           arguments.get("--salt-file"), text->size()));
}

Result<accounting::LedgerFile> read_ledger_file(const std::string& file) {
  constexpr std::size_t kLargest = std::size_t{2} << 30U;
  const auto text = document::read_file(file, kLargest);
  if (!text) return text.error();
  auto read = accounting::read_ledger(*text);
  if (!read) return read.error().at(fmt::format("{}", file));
  return read;
}

Status reach(Side& side, const Arguments& options, const LedgerQuery& query, const std::string& salt) {
  auto node = NodeClient::open(options);
  if (!node) return node.error();
  const auto about = node->call("GET", "/v1/node");
  if (!about) return about.error();
  side.name = about->value("name", side.name);
  side.node.emplace(std::move(*node));
  side.ledger = std::make_unique<NodeLedger>(*side.node, query, salt);
  return {};
}

// What --with names, if it is no file.
Result<Arguments> options_of_known(const Arguments& arguments, const std::string& name) {
  const auto nodes = known_nodes(arguments);
  if (!nodes) return nodes.error();
  std::vector<std::string> names;
  for (const KnownNode& one : *nodes) {
    if (one.name == name) return one.options;
    names.push_back(one.name);
  }
  return fail(Errc::not_found,
              fmt::format("'{}' is no file and no node that is known; nodes: {} (jembatan node add)",
                          escaped(name), names.empty() ? "none" : join(names, ", ")));
}

struct Comparison {
  LedgerQuery here;
  LedgerQuery there;
  std::string salt;
  accounting::ReconcileWish reconcile;
};

Result<Comparison> read_comparison(const Arguments& arguments) {
  Comparison out;
  const auto query = ledger_query(arguments);
  if (!query) return query.error();
  out.here = out.there = *query;
  out.here.sent_to = arguments.get("--sent-to");
  out.here.as_sent = true;
  out.there.client = arguments.get("--received-from");
  const auto salt = salt_of(arguments);
  if (!salt) return salt.error();
  out.salt = *salt;
  if (arguments.has("--late")) {
    const auto late = parse_duration(arguments.get("--late"));
    if (!late) return late.error().at("--late");
    out.reconcile.late = std::chrono::duration_cast<std::chrono::seconds>(*late);
  }
  return out;
}

// A file decides the period and the salt for both sides.
Status take_file(Side& there, Comparison& wish, const std::string& file) {
  auto read = read_ledger_file(file);
  if (!read) return read.error();
  const accounting::LedgerHeading& heading = read->heading;
  if (heading.salt) wish.salt = *heading.salt;
  if (!heading.salt && wish.salt.empty())
    return fail(Errc::malformed,
                fmt::format("'{}' was made with a salt that is not in it: --salt-file FILE", file));
  if (!wish.there.client.empty()) {  // the file is the sender's: what this node received of it
    wish.here.client = wish.there.client;
    wish.here.as_sent = false;
  }
  wish.here.since = heading.since;
  wish.here.until = heading.until;
  if (!heading.node.empty()) there.name = heading.node;
  there.ledger = std::make_unique<accounting::LedgerAtHand>(std::move(read->entries));
  return {};
}

Result<json> compare_with(const Arguments& arguments, Comparison wish, const std::string& with) {
  Side there{with, std::nullopt, nullptr};
  Side here;
  std::error_code failed;
  if (std::filesystem::is_regular_file(with, failed)) {
    if (const Status taken = take_file(there, wish, with); !taken) return taken.error();
  } else {
    const auto options = options_of_known(arguments, with);
    if (!options) return options.error();
    if (const Status made = reach(there, *options, wish.there, wish.salt); !made) return made.error();
  }
  if (const Status made = reach(here, arguments, wish.here, wish.salt); !made) return made.error();
  auto found = accounting::reconcile(*here.ledger, *there.ledger, wish.reconcile);
  if (!found) return found.error();
  return told_json(*found, here, there, wish.here.sent_to);
}

Exit reconcile(const Arguments& arguments, Terminal& terminal) {
  auto wish = read_comparison(arguments);
  if (!wish) return report(wish.error(), terminal);
  json all = json::array();
  bool agree = true;
  for (const std::string& with : arguments.all("--with")) {
    auto compared = compare_with(arguments, *wish, with);
    if (!compared) return report(compared.error(), terminal);
    agree = agree && compared->value("agree", false);
    all.push_back(std::move(*compared));
  }
  if (all.empty())
    return report(
        fail(Errc::malformed, "'--with' is missing; allowed: a node, or a file of accounting digest"),
        terminal);
  if (arguments.has("--json")) {
    terminal.line(json{{"compared", all}}.dump(2));
  } else if (arguments.has("--csv")) {
    print_findings_csv(all, terminal);
  } else {
    for (const json& one : all) print_compared(one, terminal);
  }
  return agree ? Exit::done : Exit::no;
}

// The ledger, some hours at a time.
//   returns  how many records
Result<std::uint64_t> write_ledger(const accounting::LedgerHeading& heading,
                                   const std::map<accounting::Hour, accounting::Sum>& hours,
                                   accounting::Ledger& ledger, const std::string& file) {
  constexpr std::uint64_t kMostAtOnce = 20000;  // records, but for one hour
  auto out = NewFile::open(file);
  if (!out) return out.error();
  Status written = out->write(accounting::heading_text(heading));
  std::uint64_t count = 0;
  std::uint64_t gathered = 0;
  std::vector<accounting::Place> places;
  for (auto hour = hours.begin(); written && hour != hours.end(); ++hour) {
    for (std::size_t slot = 0; slot < accounting::kSlots; ++slot) places.push_back({hour->first, slot});
    gathered += hour->second.count;
    if (gathered < kMostAtOnce && std::next(hour) != hours.end()) continue;
    const auto entries = ledger.entries(places);
    if (!entries) return entries.error();
    std::string text;
    for (const accounting::Entry& one : *entries) text += accounting::line_of(one);
    written = out->write(text);
    count += entries->size();
    gathered = 0;
    places.clear();
  }
  if (written) written = out->write(accounting::ending_text(count));
  if (written) written = out->sync();
  if (written) written = out->name();
  if (!written) return written.error();
  return count;
}

Exit write_digest(const Arguments& arguments, Terminal& terminal) {
  auto query = ledger_query(arguments);
  if (!query) return report(query.error(), terminal);
  query->client = arguments.get("--client");
  query->sent_to = arguments.get("--sent-to");
  query->as_sent = !query->sent_to.empty();
  auto salt = salt_of(arguments);
  if (!salt) return report(salt.error(), terminal);
  const bool shared = !salt->empty();
  if (!shared) {
    host::SystemRandom random;
    std::array<std::uint8_t, 16> octets{};
    random.fill(octets);
    *salt = to_hex(octets);
  }
  const std::string file = arguments.get("--out");
  if (file.empty())
    return report(fail(Errc::malformed, "'--out' is missing; allowed: a file that is not there yet"),
                  terminal);
  if (is_there(file))
    return report(fail(Errc::conflict, fmt::format("'{}' is there already", file)), terminal);
  Side here;
  if (const Status made = reach(here, arguments, *query, *salt); !made) return report(made.error(), terminal);
  const auto hours = here.ledger->hours();
  if (!hours) return report(hours.error(), terminal);
  const accounting::LedgerHeading heading{arguments.get("--name", here.name), query->since, query->until,
                                          shared ? std::nullopt : std::optional(*salt)};
  const auto count = write_ledger(heading, *hours, *here.ledger, file);
  if (!count) return report(count.error(), terminal);
  terminal.line(fmt::format("{} records in '{}': keys and times, no names{}", *count, file,
                            shared ? "; the salt is not in it" : ""));
  return Exit::done;
}

}  // namespace

std::vector<Command> reconcile_commands() {
  const Option since = filter("--since");
  const Option until = filter("--until");
  const Option realm = filter("--realm");
  const Option salt{"--salt-file", "FILE",
                    "a text that both companies know, so that nobody else can guess names"};
  std::vector<Option> digest = node_options();
  digest.insert(digest.begin(),
                {{"--out", "FILE", "where to"},
                 since,
                 until,
                 realm,
                 filter("--client"),
                 {"--sent-to", "GROUP", "only what was to be sent to this group, as it was sent"},
                 {"--name", "NAME", "what the node is called in the file"},
                 salt});
  Option with{"--with", "NODE|FILE",
              "a node (as node list has it, or of the lab), or a file of accounting digest"};
  with.many = true;
  return {
      {"accounting reconcile",
       "Compare the records of two hops: what is missing, double, different or late; exit 1 if anything is",
       "jembatan accounting reconcile --lab hub --sent-to reef-records --with reef-1 --since 2026-11-26",
       reading_options(
           {with,
            since,
            until,
            realm,
            {"--sent-to", "GROUP", "of this node only what was to be sent to this group, as it was sent"},
            {"--received-from", "CLIENT",
             "only what came from this client: to the others, or, with a file, to this node"},
            {"--late", "TIME", "records that came later than that are findings, too"},
            salt,
            {"--csv", "", "the findings as comma-separated values"}}),
       {},
       reconcile},
      {"accounting digest",
       "Write what another company needs to compare its records with these: keys and times, no names",
       "jembatan accounting digest --lab hub --sent-to reef-records --since 2026-11-26 --out hub.ledger",
       std::move(digest),
       {},
       write_digest}};
}

}  // namespace jembatan::cli
