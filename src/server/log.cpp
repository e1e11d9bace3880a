#include "server/log.h"

#include <fmt/format.h>
#include <poll.h>
#include <spdlog/sinks/base_sink.h>
#include <spdlog/spdlog.h>
#include <sys/stat.h>
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
      const std::string text = fmt::format("log: {} octets were lost: nobody read them", lost_);
      lines_ += the_format == host::LogFormat::json ? "{\"text\":" + json_quoted(text) + "}\n" : text + "\n";
      lost_ = 0;
    }
    write_out(0);
    if (lines_.size() <= kMostWaiting) return;
    lost_ += lines_.size();
    lines_.clear();
  }

 public:
  /// Writes what is left at the end, for which a reader has this time.
  void finish(std::chrono::milliseconds within) {
    const std::lock_guard lock(mutex_);
    write_out(static_cast<int>(within.count()));
  }

 private:
  void write_out(int wait_ms) {
    std::string_view left = lines_;
    while (!left.empty()) {
      pollfd writable{STDERR_FILENO, POLLOUT, 0};
      if (::poll(&writable, 1, wait_ms) <= 0) break;
      // Into a pipe goes so much without waiting (pipe(7)); a file takes all.
      const std::size_t size = to_file_ ? left.size() : std::min<std::size_t>(left.size(), PIPE_BUF);
      const ssize_t written = ::write(STDERR_FILENO, left.data(), size);
      if (written <= 0) break;
      left.remove_prefix(static_cast<std::size_t>(written));
    }
    lines_.erase(0, lines_.size() - left.size());
  }

  static bool is_file() {
    struct stat found {};
    return ::fstat(STDERR_FILENO, &found) == 0 && S_ISREG(found.st_mode);
  }

  static constexpr std::size_t kMost = 64 << 10;
  static constexpr std::size_t kMostWaiting = 1 << 20;
  std::size_t lost_ = 0;
  bool to_file_ = is_file();
  std::string lines_;
};

std::shared_ptr<CollectingSink> the_sink;

void write_line(spdlog::level::level_enum level, std::string_view text) {
  spdlog::log(level, "{}",
              the_format == host::LogFormat::json ? "\"text\":" + json_quoted(text) : std::string(text));
  flush_log();
}

}  // namespace

void open_log(host::LogFormat format, std::string_view level) {
  the_format = format;
  the_sink = std::make_shared<CollectingSink>();
  auto logger = std::make_shared<spdlog::logger>("jembatand", the_sink);
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

void finish_log() {
  constexpr std::chrono::milliseconds kWithin{1000};
  flush_log();
  if (the_sink) the_sink->finish(kWithin);
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
  spdlog::default_logger_raw()->log(kLevels[static_cast<std::size_t>(weight)],
                                    spdlog::string_view_t(payload.data(), payload.size()));
}

bool logs(engine::Weight weight) {
  static constexpr std::array kLevels{spdlog::level::debug, spdlog::level::info, spdlog::level::warn,
                                      spdlog::level::err};
  return spdlog::should_log(kLevels[static_cast<std::size_t>(weight)]);
}

}  // namespace jembatan::server
