#include "server/log.h"

#include <fmt/format.h>
#include <poll.h>
#include <spdlog/sinks/base_sink.h>
#include <spdlog/spdlog.h>
#include <unistd.h>

#include <algorithm>
#include <climits>
#include <mutex>

#include "base/text.h"
#include "server/event_log.h"

namespace jembatan::server {
namespace {

host::LogFormat the_format = host::LogFormat::text;

// Collects lines and hands them to the system together: one write for many lines.
class CollectingSink final : public spdlog::sinks::base_sink<std::mutex> {
 protected:
  void sink_it_(const spdlog::details::log_msg& message) override {
    spdlog::memory_buf_t line;
    formatter_->format(message, line);
    lines_.append(line.data(), line.size());
    if (lines_.size() > kMost) flush_();
  }
  // Never waits: what nobody takes stays until there is too much of it, and is then lost and counted.
  void flush_() override {
    if (lost_ > 0 && lines_.size() < kMostWaiting) {
      lines_ += fmt::format("(log: {} octets were lost: nobody read them)\n", lost_);
      lost_ = 0;
    }
    std::string_view left = lines_;
    while (!left.empty()) {
      pollfd writable{STDERR_FILENO, POLLOUT, 0};
      if (::poll(&writable, 1, 0) <= 0) break;
      // So much goes into a pipe that can be written to without waiting (pipe(7)).
      const ssize_t written =
          ::write(STDERR_FILENO, left.data(), std::min<std::size_t>(left.size(), PIPE_BUF));
      if (written <= 0) break;
      left.remove_prefix(static_cast<std::size_t>(written));
    }
    lines_.erase(0, lines_.size() - left.size());
    if (lines_.size() <= kMostWaiting) return;
    lost_ += lines_.size();
    lines_.clear();
  }

 private:
  static constexpr std::size_t kMost = 64 << 10;
  static constexpr std::size_t kMostWaiting = 1 << 20;
  std::size_t lost_ = 0;
  std::string lines_;
};

void write_line(spdlog::level::level_enum level, std::string_view text) {
  spdlog::log(level, "{}",
              the_format == host::LogFormat::json ? "\"text\":" + json_quoted(text) : std::string(text));
  flush_log();
}

}  // namespace

void open_log(host::LogFormat format, std::string_view level) {
  the_format = format;
  auto logger = std::make_shared<spdlog::logger>("jembatand", std::make_shared<CollectingSink>());
  const char* pattern = format == host::LogFormat::json
                            ? R"({"time":"%Y-%m-%dT%H:%M:%S.%eZ","level":"%l",%v})"
                            : "%Y-%m-%dT%H:%M:%S.%eZ %-7l %v";
  logger->set_pattern(pattern, spdlog::pattern_time_type::utc);
  logger->set_level(spdlog::level::from_str(std::string(level)));
  spdlog::set_default_logger(std::move(logger));
}

void flush_log() {
  spdlog::default_logger_raw()->flush();
}

void log_info(std::string_view text) {
  write_line(spdlog::level::info, text);
}
void log_warning(std::string_view text) {
  write_line(spdlog::level::warn, text);
}
void log_error(std::string_view text) {
  write_line(spdlog::level::err, text);
}

void log_line(engine::Weight weight, std::string_view payload) {
  static constexpr std::array kLevels{spdlog::level::debug, spdlog::level::info, spdlog::level::warn,
                                      spdlog::level::err};
  spdlog::log(kLevels[static_cast<std::size_t>(weight)], "{}", payload);
}

bool logs(engine::Weight weight) {
  static constexpr std::array kLevels{spdlog::level::debug, spdlog::level::info, spdlog::level::warn,
                                      spdlog::level::err};
  return spdlog::should_log(kLevels[static_cast<std::size_t>(weight)]);
}

}  // namespace jembatan::server
