#pragma once
// The processes of the lab: they go on when the command that started them has ended.
#include <chrono>
#include <filesystem>
#include <functional>
#include <string>
#include <thread>
#include <vector>

#include "base/result.h"

namespace jembatan::lab {

/// A process of the lab: its number is kept in a file, and its command line shows that it is still ours.
struct Process {
  std::filesystem::path number_file;
  std::string mark;  ///< in its command line
};

/// The number of one that runs; 0: it does not.
int running(const Process& process);
/// Starts a program in the background; what it says goes to a log.
///   returns  its number
Result<int> start(const std::vector<std::string>& words, const std::filesystem::path& log,
                  const Process& process);
/// Runs a program to its end.
///   errors  Errc::io: it cannot be started, or failed; the text has what it says
Status run(const std::vector<std::string>& words);
/// Waits until `up` holds.
///   called  "node hub", for messages
///   errors  Errc::conflict: it has ended, or takes too long; the text has the end of its log
Status wait_until_up(int number, const std::string& called, const std::filesystem::path& log,
                     const std::function<bool()>& up);
/// Ends one; false if it does not run.
///   errors  Errc::busy: it does not end
Result<bool> stop(const Process& process, const std::string& called);

/// False if the condition does not hold within that time.
template <class Condition>
bool wait_for(std::chrono::milliseconds within, Condition condition) {
  const auto until = std::chrono::steady_clock::now() + within;
  while (!condition()) {
    if (std::chrono::steady_clock::now() > until) return false;
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
  return true;
}

}  // namespace jembatan::lab
