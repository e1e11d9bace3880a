#pragma once
#include <string>
#include <vector>

#include "document/value.h"

namespace jembatan::document {

enum class Level : std::uint8_t { error, advice };

/// One thing that is wrong with a file, or could be better.
struct Problem {
  Level level = Level::error;
  std::string file;
  Position at;
  std::string text;     ///< what was found, one sentence; never a secret
  std::string allowed;  ///< what may stand there; may be empty
  std::string line;     ///< the line as it may be shown, what may be a secret masked; may be empty
  std::size_t width = 1;
  std::string rule = {};  ///< advice: what it is called, like "weak-secret"
  std::string mend = {};  ///< advice: what would mend it
};

/// All problems of one reading: nothing is applied while there is an error among them.
class Problems {
 public:
  void add(Problem problem) { list_.push_back(std::move(problem)); }
  const std::vector<Problem>& list() const { return list_; }
  std::size_t errors() const;
  std::size_t advice() const { return list_.size() - errors(); }

  /// The report for people: each problem as "file:line:column: level: text" with the line below it, then the
  /// count. Sorted by file and position.
  std::string text() const;
  /// "2 errors, 1 advice"
  std::string count_text() const;

 private:
  std::vector<Problem> list_;
};

}  // namespace jembatan::document
