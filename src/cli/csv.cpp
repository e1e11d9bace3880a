#include "cli/csv.h"

#include <fmt/format.h>

namespace jembatan::cli {
namespace {

class Reader {
 public:
  explicit Reader(std::string_view text) : text_(text) {
    const std::string_view first = text.substr(0, text.find('\n'));
    if (first.find(',') == std::string_view::npos && first.find(';') != std::string_view::npos)
      between_ = ';';
  }

  Result<std::vector<CsvRow>> run() {
    std::vector<CsvRow> out;
    while (at_ < text_.size()) {
      CsvRow row{line_, {}};
      do {
        auto cell = read_cell();
        if (!cell) return cell.error();
        row.cells.push_back(std::move(*cell));
      } while (take(between_));
      (void)take('\r');
      if (at_ < text_.size() && !take('\n'))
        return fail(Errc::malformed, fmt::format("line {}: text behind a closing quote", line_));
      ++line_;
      if (row.cells.size() == 1 && row.cells.front().empty()) continue;
      if (!out.empty() && row.cells.size() != out.front().cells.size()) {
        return fail(Errc::malformed, fmt::format("line {}: {} cells; the first row has {}", row.line,
                                                 row.cells.size(), out.front().cells.size()));
      }
      out.push_back(std::move(row));
    }
    return out;
  }

 private:
  bool take(char c) {
    if (at_ >= text_.size() || text_[at_] != c) return false;
    ++at_;
    return true;
  }

  Result<std::string> read_cell() {
    std::string out;
    if (!take('"')) {
      while (at_ < text_.size() && text_[at_] != between_ && text_[at_] != '\n' && text_[at_] != '\r')
        out += text_[at_++];
      return out;
    }
    const std::size_t begun = line_;
    while (at_ < text_.size()) {
      const char c = text_[at_++];
      if (c == '"' && !take('"')) return out;
      if (c == '\n') ++line_;
      out += c;
    }
    return fail(Errc::malformed, fmt::format("line {}: a quote that does not end", begun));
  }

  std::string_view text_;
  std::size_t at_ = 0;
  std::size_t line_ = 1;
  char between_ = ',';
};

}  // namespace

Result<std::vector<CsvRow>> read_csv(std::string_view text) {
  if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
  return Reader(text).run();
}

std::string csv_cell(std::string_view text) {
  if (text.find_first_of("\",\r\n;") == std::string_view::npos) return std::string(text);
  std::string out = "\"";
  for (const char c : text) out += c == '"' ? "\"\"" : std::string(1, c);
  return out + "\"";
}

}  // namespace jembatan::cli
