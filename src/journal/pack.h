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
  std::uint64_t leg = 0;  ///< wire::leg_of what came in; 0: not known
  OctetView story;        ///< what story_of() reads; empty: it was not decided
};

/// Makes a block, entry by entry.
class Packing {
 public:
  ///   event  with its number, which is higher than those before
  ///   words  the steps, if they cannot be told again from what is kept (told_again.h)
  void add(const engine::Event& event, std::string_view words = {});
  std::size_t size() const { return block_.entries.size(); }
  /// A good size for a block is reached.
  bool full() const { return size() >= kFull; }
  bool empty() const { return block_.entries.empty(); }
  /// The block so far; the next entry begins another.
  Block take();

 private:
  static constexpr std::size_t kFull = 64 << 10;
  /// A text that often comes again.
  struct Repeated {
    std::string_view text;  // in seen_
    std::size_t place = 0;
  };
  void repeated(std::string_view text, Repeated& last);
  void story(const engine::Story& story, WallTime at, std::string_view words);

  Block block_;
  WallTime last_at_{};
  Octets story_;  // what it holds is of one call of add()
  Octets packet_;
  std::string reason_;
  ByText<std::size_t> seen_;
  struct {
    Repeated client, realm, server, reason, mend;
  } last_texts_;  // of the entry before: mostly, they come again
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
