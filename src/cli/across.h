#pragma once
// One request at every hop that it came by.
#include <functional>
#include <memory>
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <string>
#include <vector>

namespace jembatan::cli {

using Document = std::shared_ptr<const nlohmann::json>;

/// One hop of a request, with the hops behind it.
struct Hop {
  std::string node;
  Document entry;  ///< of its journal, whole
  /// What it sent to a server, and what became of that there.
  struct Sent {
    Document leg;
    std::vector<Hop> there;  ///< one; none: no node that is known has it
  };
  std::vector<Sent> sent;
};

/// Journals of several nodes.
class Journals {
 public:
  virtual ~Journals() = default;
  /// The entry of the request that came in as this leg, or that sent it: at whichever node has one.
  struct Found {
    std::string node;
    Document entry;
  };
  enum class As : std::uint8_t { received, sent };
  virtual std::optional<Found> find(const std::string& leg, As as) = 0;
};

/// The whole way of a request, from its first hop that is known, by any of its hops.
Hop way_of(std::string node, Document entry, Journals& journals);

/// The way, as people read it: each hop's receive, ask, answer and reply with times by the first hop's clock,
/// who decided, where the time went, and clocks that differ.
struct LadderLine {
  std::string text;
  std::string outcome;  ///< that the line tells of; empty: none
};
std::vector<LadderLine> ladder_of(const Hop& first);
/// The same as a document.
nlohmann::json ladder_json(const Hop& first);

}  // namespace jembatan::cli
