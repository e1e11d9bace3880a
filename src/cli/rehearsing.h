#pragma once
// Running rehearsals over the wire.
#include <functional>
#include <list>

#include "cli/judging.h"
#include "cli/node_access.h"
#include "cli/question.h"
#include "cli/shares.h"

namespace jembatan::cli {

/// What came of one case.
struct CaseResult {
  const rehearsal::Case* of = nullptr;
  /// A step that did not go as expected; with where it stands, and where to look.
  struct Failure {
    std::size_t step = 0;  ///< from 1
    document::Position at;
    std::string text;
    std::string look;  ///< a command; may be empty
  };
  std::vector<Failure> failures;  ///< none: it went as expected
  std::string skipped;            ///< why it was not run; empty: it was
  std::string note;               ///< what must be known of it; may be empty
  std::chrono::microseconds took{0};
  std::vector<std::chrono::microseconds> answers;  ///< how long each took
};

/// Runs cases one after the other. What they let go wrong in the lab is mended when they end.
class Rehearsing {
 public:
  CaseResult run(const rehearsal::Case& one);

 private:
  struct Running {
    const rehearsal::Case& of;
    std::string session;  // the case's own
    std::vector<std::string> faulted;
    CaseResult result;
  };
  using Found = std::map<std::string, std::uint64_t>;

  Status run_step(const rehearsal::Step& step, std::size_t number, Running& running);
  Status run_requests(const rehearsal::Step& step, std::size_t number, Running& running);
  Status run_device(const rehearsal::Step& step, std::size_t number, Running& running);
  Status run_until(const rehearsal::Step& step, std::size_t number, Running& running);
  Result<std::vector<Came>> ask_all(const rehearsal::Step& step, const Running& running,
                                    dictionary::CataloguePtr& names);
  struct Heading {
    std::uint64_t number = 0;
    std::string server;
  };
  Result<std::optional<Heading>> heading_of(const std::string& node, std::uint64_t leg, Duration within);
  Status check_server(const rehearsal::Step& step, const Came& came, std::vector<std::string>& out);
  Status check_accounting(const rehearsal::Step& step, const Running& running, std::vector<std::string>& out);
  struct Counting {
    std::string path;
    std::string key;  // of the rows
    std::function<bool(const nlohmann::json&)> counts;
    std::uint64_t wanted = 0;
  };
  Result<std::uint64_t> count_at(const std::string& name, const rehearsal::Step& step, const Running& running,
                                 const Counting& what);
  Result<ByServer> requests_of_servers(const std::string& node);
  Result<Found> down_servers();
  void mend(Running& running);
  Result<NodeClient*> node(const std::string& name);
  std::string look_at(const rehearsal::Step& step, const Came& came);

  std::map<std::string, NodeClient> nodes_;
};

/// The options that name a node of a rehearsal: of the lab, or a node file.
Arguments options_of_node(const std::string& name);
/// The options of `ask` for a step's request.
///   number   of the request, from 0: what {n} stands for
///   session  the case's own
Arguments options_of_request(const rehearsal::Step& step, std::size_t number, const std::string& session);
/// What came of an exchange, as it is judged.
Came came_of(const Exchanged& exchanged, const dictionary::Catalogue& names);

}  // namespace jembatan::cli
