#pragma once
// The course of a request that has ended, taken again.
#include "engine/story.h"

namespace jembatan::journal {

/// "at once", "after 3.1 ms"
std::string after_text(std::chrono::microseconds time);

/// Takes the course that a story's request took, over the results that it was given. Keeps views of the
/// story, which outlives it.
class Again {
 public:
  ///   telling  if given: gets a line for each step and each result
  explicit Again(const engine::Story& story, decide::Telling* telling = nullptr);

  /// To the end of what was given.
  ///   returns  the last step; what it would reply differs from what was sent in what was by chance (salts of
  ///   hidden values) and in what belongs to the hop
  decide::Next run();
  const decide::Course& course() const { return course_; }

 private:
  decide::Next on(const engine::Given& given);
  const plan::Server& server(std::uint16_t place) const;
  std::string name_of(std::uint16_t place) const;
  void say(const engine::Given& given, const std::string& what);

  const engine::Story& story_;
  NoRandom random_;
  wire::PacketView packet_;
  decide::Telling* telling_;
  decide::AsThen elsewhere_;
  decide::Course course_;
};

}  // namespace jembatan::journal
