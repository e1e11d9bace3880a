#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.h"
#include "rehearsal/case.h"

namespace jembatan::rehearsal {
namespace {

using namespace std::chrono_literals;
using document::Entry;
using document::Field;
using document::Kind;
using document::Need;
using document::Reading;

constexpr std::array<std::string_view, 3> kStates{"up", "doubted", "down"};
constexpr std::array<std::string_view, 9> kCodes{"Access-Accept",
                                                 "Access-Reject",
                                                 "Access-Challenge",
                                                 "Accounting-Response",
                                                 "Disconnect-ACK",
                                                 "Disconnect-NAK",
                                                 "CoA-ACK",
                                                 "CoA-NAK",
                                                 "none"};

// A value of the file as dictionaries read it.
std::optional<std::string> value_text(Reading& r, const Entry& owner, const document::Value& value) {
  if (value.kind == Kind::text) return value.text;
  if (value.kind == Kind::integer) return std::to_string(value.integer);
  r.wrong({owner.key, owner.at, value}, fmt::format("'{}' is {}", owner.key, document::name_of(value.kind)),
          "a text or a whole number");
  return std::nullopt;
}

std::optional<double> number(Reading& r, const Entry& e, double least, double most) {
  const double value = e.value.kind == Kind::integer ? static_cast<double>(e.value.integer)
                       : e.value.kind == Kind::real  ? e.value.real
                                                     : least - 1;
  if (value >= least && value <= most) return value;
  r.wrong(e, fmt::format("'{}' is no such number", e.key), fmt::format("{} to {}", least, most));
  return std::nullopt;
}

void read_codes(Reading& r, const Entry& e, Expectation& out) {
  for (std::string& text : r.texts(e)) {
    if (std::find(kCodes.begin(), kCodes.end(), text) == kCodes.end()) {
      r.wrong(e, fmt::format("'code' is '{}'", escaped(text)),
              join(std::vector<std::string>(kCodes.begin(), kCodes.end()), ", "));
    } else {
      out.codes.push_back(std::move(text));
    }
  }
}

void read_reply(Reading& r, const Entry& e, Expectation& out) {
  if (!r.expect(e, Kind::table)) return;
  for (const Entry& attribute : e.value.entries) {
    Wanted wanted;
    wanted.name = attribute.key;
    if (attribute.value.kind == Kind::array) {
      for (const document::Value& one : attribute.value.items)
        if (auto text = value_text(r, attribute, one)) wanted.any_of.push_back(std::move(*text));
    } else if (auto text = value_text(r, attribute, attribute.value); text && *text != "*") {
      wanted.any_of.push_back(std::move(*text));
    }
    out.reply.push_back(std::move(wanted));
  }
}

void read_matching(Reading& r, const Entry& e, Expectation& out) {
  if (!r.expect(e, Kind::table)) return;
  for (const Entry& attribute : e.value.entries)
    if (auto text = r.text(attribute)) out.reply.push_back({attribute.key, {}, std::move(*text)});
}

bool is_server(std::string_view text) {
  const std::size_t slash = text.find('/');
  return slash != std::string_view::npos && slash > 0 && slash + 1 < text.size();
}

std::string read_server(Reading& r, const Entry& e) {
  auto text = r.text(e);
  if (text && is_server(*text)) return *text;
  if (text)
    r.wrong(e, fmt::format("'{}' is '{}'", e.key, escaped(*text)), "GROUP/SERVER, like reef-homes/reef-1");
  return {};
}

void read_counts(Reading& r, const Entry& e, std::map<std::string, std::uint64_t>& out) {
  if (!r.expect(e, Kind::table)) return;
  for (const Entry& node : e.value.entries)
    if (const auto count = r.integer(node, 0, 1000000)) out[node.key] = static_cast<std::uint64_t>(*count);
}

const Field<Expectation> kExpectation[] = {
    {"code", Need::optional,
     "the reply's, or an array of those that are right: Access-Accept, Access-Reject, Access-Challenge, "
     "Accounting-Response, Disconnect-ACK, Disconnect-NAK, CoA-ACK, CoA-NAK; none: no answer",
     [](Reading& r, const Entry& e, Expectation& x) { read_codes(r, e, x); }},
    {"reply", Need::optional,
     "a table of attributes that it must have: a value, an array of values of which one is right, or \"*\" "
     "for any; "
     "vlan = 30 is meant as in plans",
     [](Reading& r, const Entry& e, Expectation& x) { read_reply(r, e, x); }},
    {"absent", Need::optional, "an array of attributes that it must not have",
     [](Reading& r, const Entry& e, Expectation& x) { x.absent = r.texts(e); }},
    {"matching", Need::optional,
     "a table of attributes with patterns that a value must match, as in conditions",
     [](Reading& r, const Entry& e, Expectation& x) { read_matching(r, e, x); }},
    {"server", Need::optional, "GROUP/SERVER that answered the node that was asked",
     [](Reading& r, const Entry& e, Expectation& x) { x.server = read_server(r, e); }},
    {"within", Need::optional, "the longest that each answer may take, like 500ms",
     [](Reading& r, const Entry& e, Expectation& x) { x.within = r.duration(e, 1ms, 600s); }},
    {"at_least", Need::optional,
     "with times: percent of the requests that must come out like that; default 100",
     [](Reading& r, const Entry& e, Expectation& x) { x.at_least = number(r, e, 0, 100).value_or(100); }},
    {"shares", Need::optional,
     "with times: a table of percent by GROUP/SERVER: how many of the requests each must get",
     [](Reading& r, const Entry& e, Expectation& x) {
       if (!r.expect(e, Kind::table)) return;
       for (const Entry& share : e.value.entries) {
         if (!is_server(share.key)) {
           r.wrong(share, fmt::format("'{}'", escaped(share.key)), "GROUP/SERVER, like reef-homes/reef-1");
         } else if (const auto percent = number(r, share, 0, 100)) {
           x.shares[share.key] = *percent;
         }
       }
     }},
    {"tolerance", Need::optional, "of shares, in percent points; default 1",
     [](Reading& r, const Entry& e, Expectation& x) { x.tolerance = number(r, e, 0, 100).value_or(1); }},
    {"records", Need::optional,
     "a table of nodes: how often the accounting of this session's step must be kept at each",
     [](Reading& r, const Entry& e, Expectation& x) { read_counts(r, e, x.records); }},
    {"online", Need::optional, "a table of nodes: how many of this step's sessions must be open at each",
     [](Reading& r, const Entry& e, Expectation& x) { read_counts(r, e, x.online); }},
    {"records_within", Need::optional, "how long they may take to arrive everywhere; default 10s",
     [](Reading& r, const Entry& e, Expectation& x) {
       x.records_within = r.duration(e, 1ms, 600s).value_or(10s);
     }},
};

void set_kind(Reading& r, const Entry& e, Step& step, Step::Kind kind) {
  if (!step.node.empty() || !step.fault.empty()) {
    r.wrong(e, fmt::format("'{}' in a step that does something already", e.key), "one of them in each step");
    return;
  }
  step.kind = kind;
  step.node = r.text(e).value_or("");
}

void read_fault(Reading& r, const Entry& e, Step& step) {
  const auto text = r.text(e);
  if (!text) return;
  const std::size_t space = text->find(' ');
  if (!step.node.empty() || space == std::string::npos || space == 0) {
    r.wrong(e, fmt::format("'fault' is '{}'", escaped(*text)),
            "NODE FAULT in a step of its own, like \"reef-1 silent\" or \"hub delay 800ms\"; \"reef-1 none\" "
            "mends it");
    return;
  }
  step.kind = Step::Kind::fault;
  step.node = text->substr(0, space);
  step.fault = text->substr(space + 1);
}

void read_until(Reading& r, const Entry& e, Step& step) {
  if (!r.expect(e, Kind::table)) return;
  step.kind = Step::Kind::until;
  for (const Entry& inner : e.value.entries) {
    if (inner.key == "node") {
      step.node = r.text(inner).value_or("");
    } else if (inner.key == "server") {
      step.server = read_server(r, inner);
    } else if (inner.key == "is") {
      step.state = kStates[r.choice(inner, kStates).value_or(0)];
    } else if (inner.key == "within") {
      step.within = r.duration(inner, 1ms, 600s).value_or(20s);
    } else {
      r.unknown_key(inner, "until", {"node", "server", "is", "within"});
    }
  }
  if (step.node.empty() || step.server.empty() || step.state.empty())
    r.wrong(e, "'until' is not whole", "{ node = \"hub\", server = \"reef-homes/reef-1\", is = \"down\" }");
}

const Field<Step> kStep[] = {
    {"access", Need::optional,
     "the node that an Access-Request goes to: of the lab, or a node file with its path",
     [](Reading& r, const Entry& e, Step& s) { set_kind(r, e, s, Step::Kind::access); }},
    {"accounting", Need::optional, "the node that an Accounting-Request goes to",
     [](Reading& r, const Entry& e, Step& s) { set_kind(r, e, s, Step::Kind::accounting); }},
    {"status", Need::optional, "the node that is asked whether it is alive (Status-Server)",
     [](Reading& r, const Entry& e, Step& s) { set_kind(r, e, s, Step::Kind::status); }},
    {"disconnect", Need::optional,
     "the node that is to end the case's session, which an accounting step before has begun: it asks the "
     "device (RFC 5176), over as many hops as there are; the device is played here",
     [](Reading& r, const Entry& e, Step& s) { set_kind(r, e, s, Step::Kind::disconnect); }},
    {"change", Need::optional, "the node that is to change it: by the attributes of `send`",
     [](Reading& r, const Entry& e, Step& s) { set_kind(r, e, s, Step::Kind::change); }},
    {"device", Need::optional, "what the played device says: ack (default), nak, nak 503, silent",
     [](Reading& r, const Entry& e, Step& s) { s.device = r.text(e).value_or("ack"); }},
    {"fault", Need::optional,
     "what goes wrong from here on, until the case ends: NODE FAULT, as jembatan lab fault takes them",
     read_fault},
    {"until", Need::optional,
     "waits until a server is in a state: { node = \"hub\", server = \"reef-homes/reef-1\", is = \"down\", "
     "within = "
     "\"20s\" }",
     read_until},
    {"client", Need::optional, "as which client of the node's plan; default: the lab's own",
     [](Reading& r, const Entry& e, Step& s) { s.client = r.text(e).value_or(""); }},
    {"from", Need::optional,
     "the address of this machine to send from; default: the client's, or the system chooses",
     [](Reading& r, const Entry& e, Step& s) { s.from = r.text(e).value_or(""); }},
    {"user", Need::optional, "User-Name",
     [](Reading& r, const Entry& e, Step& s) { s.user = r.text(e).value_or(""); }},
    {"password", Need::optional, "the password; without one, nothing is to be proved",
     [](Reading& r, const Entry& e, Step& s) {
       if (const auto text = r.text(e)) s.password = Secret(*text);
     }},
    {"method", Need::optional, "how it is proved: pap (default), chap, ms-chap, ms-chap-v2",
     [](Reading& r, const Entry& e, Step& s) { s.method = r.text(e).value_or("pap"); }},
    {"send", Need::optional, "a table of more attributes",
     [](Reading& r, const Entry& e, Step& s) {
       if (!r.expect(e, Kind::table)) return;
       for (const Entry& attribute : e.value.entries)
         if (auto text = value_text(r, attribute, attribute.value)) s.send[attribute.key] = std::move(*text);
     }},
    {"answers", Need::optional, "the answers to Access-Challenges, in their order",
     [](Reading& r, const Entry& e, Step& s) { s.answers = r.texts(e); }},
    {"token", Need::optional,
     "the secret of a token of a lab, in Base32: {code} in password and answers is its code of now",
     [](Reading& r, const Entry& e, Step& s) { s.token = r.text(e).value_or(""); }},
    {"sign", Need::optional, "false: without Message-Authenticator",
     [](Reading& r, const Entry& e, Step& s) { s.sign = r.boolean(e).value_or(true); }},
    {"record", Need::optional, "of accounting: Start (default), Interim-Update, Stop, …",
     [](Reading& r, const Entry& e, Step& s) { s.record = r.text(e).value_or("Start"); }},
    {"session", Need::optional,
     "Acct-Session-Id; default: one that is new in each run, the same in the whole case",
     [](Reading& r, const Entry& e, Step& s) { s.session = r.text(e).value_or(""); }},
    {"times", Need::optional,
     "how often, 1 to 100000; default 1; {n} in user and session stands for its number",
     [](Reading& r, const Entry& e, Step& s) {
       s.times = static_cast<std::size_t>(r.integer(e, 1, 100000).value_or(1));
     }},
    {"together", Need::optional, "how many of them at a time, 1 to 64; default 1",
     [](Reading& r, const Entry& e, Step& s) {
       s.together = static_cast<std::size_t>(r.integer(e, 1, 64).value_or(1));
     }},
    {"wait", Need::optional, "how long each try waits for an answer; default 3s",
     [](Reading& r, const Entry& e, Step& s) { s.wait = r.duration(e, 1ms, 300s).value_or(3s); }},
    {"tries", Need::optional, "how often the same request is sent, 1 to 99; default 3",
     [](Reading& r, const Entry& e, Step& s) {
       s.tries = static_cast<int>(r.integer(e, 1, 99).value_or(3));
     }},
    {"expect", Need::optional, "what is expected: a table",
     [](Reading& r, const Entry& e, Step& s) {
       if (r.expect(e, Kind::table))
         document::read_fields(r, e.value, "expect", std::span<const Field<Expectation>>(kExpectation),
                               s.expect);
     }},
};

void read_steps(Reading& r, const Entry& e, Case& out) {
  if (!r.expect(e, Kind::array)) return;
  for (const document::Value& item : e.value.items) {
    Step& step = out.steps.emplace_back();
    step.at = item.at;
    if (item.kind != Kind::table) {
      r.wrong({e.key, item.at, item}, "'step' holds " + std::string(document::name_of(item.kind)), "tables");
      continue;
    }
    document::read_fields(r, item, "a step", std::span<const Field<Step>>(kStep), step);
    if (step.node.empty())
      r.wrong({e.key, item.at, item}, "the step does nothing",
              "one of access, accounting, status, disconnect, change, fault, until");
  }
}

const Field<Case> kCase[] = {
    {"name", Need::required, "what the case shows",
     [](Reading& r, const Entry& e, Case& c) { c.name = r.text(e).value_or(""); }},
    {"step", Need::required, "its steps, one after the other: [[case.step]] tables",
     [](Reading& r, const Entry& e, Case& c) { read_steps(r, e, c); }},
};

const Field<Rehearsal> kRehearsal[] = {
    {"about", Need::optional, "what the file is about",
     [](Reading& r, const Entry& e, Rehearsal& x) { x.about = r.text(e).value_or(""); }},
    {"case", Need::required, "the cases: [[case]] tables",
     [](Reading& r, const Entry& e, Rehearsal& x) {
       if (!r.expect(e, Kind::array)) return;
       for (const document::Value& item : e.value.items) {
         Case& one = x.cases.emplace_back();
         one.file = r.file().name;
         one.at = item.at;
         if (item.kind == Kind::table)
           document::read_fields(r, item, "a case", std::span<const Field<Case>>(kCase), one);
       }
     }},
};

template <class Object>
void add_meanings(std::vector<KeyMeaning>& out, std::string_view section,
                  std::span<const Field<Object>> fields) {
  for (const Field<Object>& field : fields) out.push_back({section, field.name, field.meaning});
}

}  // namespace

std::optional<Rehearsal> read(const document::File& file, document::Problems& problems) {
  const std::size_t before = problems.errors();
  Rehearsal out;
  out.file = file.name;
  Reading reading(file, problems);
  reading.hide("password");
  reading.hide("token");
  document::read_fields(reading, file.root, "the file", std::span<const Field<Rehearsal>>(kRehearsal), out);
  if (problems.errors() > before) return std::nullopt;
  return out;
}

std::vector<KeyMeaning> key_meanings() {
  std::vector<KeyMeaning> out;
  add_meanings(out, "", std::span<const Field<Rehearsal>>(kRehearsal));
  add_meanings(out, "case", std::span<const Field<Case>>(kCase));
  add_meanings(out, "case.step", std::span<const Field<Step>>(kStep));
  add_meanings(out, "case.step.expect", std::span<const Field<Expectation>>(kExpectation));
  return out;
}

}  // namespace jembatan::rehearsal
