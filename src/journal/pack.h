#pragma once
// Entries as octets: what happened and what the course of the request was given, without words. Those are
// made when somebody reads.
#include "base/text_hash.h"
#include "engine/actions.h"
#include "journal/entry.h"

namespace jembatan::journal {

/// One entry as it is kept. Texts and octets are views into its block.
struct Record {
  std::uint64_t number = 0;
  WallTime at{};
  engine::Outcome outcome{};
  wire::Code code{};
  Endpoint source;
  std::string_view client;
  std::string_view user;   ///< as received
  std::string_view name;   ///< the same, user and realm, as the plan understands it
  std::string_view realm;  ///< by the name that the plan has for it
  std::string_view server;
  std::string_view reason;
  std::string_view mend;
  std::chrono::microseconds took{0};
  std::uint64_t revision = 0;
  OctetView story;  ///< what story_of() reads; empty: it was not decided
};

/// Makes a block, entry by entry.
class Packing {
 public:
  ///   event  with its number, which is higher than those before
  ///   words  the steps, if they cannot be told again from what is kept (told_again.h)
  void add(const engine::Event& event, std::string_view words = {});
  std::size_t size() const { return block_.entries.size(); }
  bool empty() const { return block_.entries.empty(); }
  /// The block so far; the next entry begins another.
  Block take();

 private:
  void repeated(std::string_view text);
  void story(const engine::Story& story, WallTime at, std::string_view words);

  Block block_;
  std::int64_t last_ms_ = 0;
  Octets story_;  // what it holds is of one call of add()
  Octets packet_;
  std::string reason_;
  ByText<std::size_t> seen_;
};

/// The entries of a block, which must outlive them.
///   errors  Errc::malformed
Result<std::vector<Record>> records_in(const Block& block);

/// The story of an entry that was decided.
struct KeptStory {
  engine::Story story;     ///< its plan is all there is of a live one; packets without what is hidden
  std::string_view words;  ///< the steps, if they were told at once
};
///   errors  Errc::malformed; Errc::not_found: the plan has not what it tells of
Result<KeptStory> story_of(const Record& record, const plan::PlanPtr& plan);

}  // namespace jembatan::journal
