#pragma once
// Requests with expected outcomes, as an operator writes them down to be run again.
#include <map>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/secret.h"
#include "document/reading.h"

namespace jembatan::rehearsal {

/// One attribute that a reply is to have. Values are written as dictionaries read them.
struct Wanted {
  std::string name;
  std::vector<std::string> any_of;  ///< one of them; empty: any value
  std::string matching;             ///< a pattern for the value's text instead; may be empty
};

/// What is expected of one step; empty parts are not asked for.
struct Expectation {
  std::vector<std::string> codes;  ///< one of them: "Access-Accept"; "none": no answer
  std::vector<Wanted> reply;
  std::vector<std::string> absent;               ///< attributes that must not be there
  std::string server;                            ///< "GROUP/SERVER" that answered the node that was asked
  std::optional<Duration> within;                ///< each answer
  double at_least = 100;                         ///< percent of the requests that come out as expected
  std::map<std::string, double> shares;          ///< percent of the requests, by "GROUP/SERVER"
  double tolerance = 1;                          ///< of shares, in percent points
  std::map<std::string, std::uint64_t> records;  ///< how often accounting is kept, by node
  std::map<std::string, std::uint64_t> online;   ///< how many of the step's sessions are open, by node
  Duration records_within{10000};                ///< it arrives behind the answer
};

/// One step of a case.
struct Step {
  enum class Kind : std::uint8_t {
    access,      ///< an Access-Request, with the rounds that follow it
    accounting,  ///< an Accounting-Request
    status,      ///< Status-Server
    disconnect,  ///< the node has the device of the step's session end it (RFC 5176)
    change,      ///< the node has it changed
    fault,       ///< something goes wrong in the lab
    until,       ///< wait for a server's state at a node
  } kind{};
  document::Position at;
  std::string node;  ///< that is asked: of the lab, or a node file
  std::string client;
  std::string from;  ///< local address to send from
  std::string user;
  std::optional<Secret> password;  ///< none: nothing is to be proved
  std::string method = "pap";
  std::map<std::string, std::string> send;  ///< attributes
  std::vector<std::string> answers;         ///< to challenges, in their order
  std::string token;                        ///< a key in Base32, for {code} in password and answers
  bool sign = true;
  std::string record = "Start";  ///< Acct-Status-Type
  std::string session;           ///< empty: one of the case's own
  std::size_t times = 1;
  std::size_t together = 1;  ///< so many at a time
  Duration wait{3000};
  int tries = 3;
  std::string device = "ack";  ///< what the device of disconnect and change says: "nak 503", "silent"
  std::string fault;           ///< "silent", "delay 800ms", …
  std::string server;          ///< of `until`: "GROUP/SERVER"
  std::string state;           ///< up, doubted, down
  Duration within{20000};
  Expectation expect;
};

struct Case {
  std::string file;
  document::Position at;
  std::string name;
  std::vector<Step> steps;
};

struct Rehearsal {
  std::string file;
  std::string about;
  std::vector<Case> cases;
};

/// Reads one file. Problems are reported all together.
///   returns  nothing if there is an error among them
std::optional<Rehearsal> read(const document::File& file, document::Problems& problems);

/// Every key that such files may have, for the reference.
struct KeyMeaning {
  std::string_view section;  ///< "case", "case.step", "case.step.expect"
  std::string_view key;
  std::string_view meaning;
};
std::vector<KeyMeaning> key_meanings();

}  // namespace jembatan::rehearsal
