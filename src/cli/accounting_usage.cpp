// jembatan accounting usage: who used how much, or when.
#include <fmt/format.h>

#include <cmath>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/csv.h"
#include "cli/listing.h"
#include "cli/plot.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

std::uint64_t count_in(const json& row, const char* key) {
  return row.value(key, std::uint64_t{0});
}

bool is_by_time(const json& body) {
  return body.value("by", "") == "day" || body.value("by", "") == "hour";
}

std::string heading_of(const json& body) {
  const std::string by = body.value("by", "");
  return by == "nas"                ? "NAS"
         : is_by_time(body)         ? by + " (UTC)"
         : by.starts_with("label:") ? by.substr(6)
                                    : by;
}

std::string hours_text(std::uint64_t seconds) {
  return text_of(Duration(1000 * static_cast<std::int64_t>(seconds)));
}

void print_usage(const json& body, Terminal& out) {
  Table table({heading_of(body), "sessions", "time", "in", "out", "most at once"});
  const auto add = [&](const json& row, const std::string& whose) {
    table.add({whose, fmt::format("{:8}", count_in(row, "sessions")), hours_text(count_in(row, "time_s")),
               octets_text(count_in(row, "input_octets")), octets_text(count_in(row, "output_octets")),
               fmt::format("{:12}", count_in(row, "peak"))});
  };
  for (const json& row : body.at("rows")) {
    const std::string whose = row.value("whose", "");
    add(row, whose.empty() ? "(none)" : whose);
  }
  add(body.at("all"), "all");
  out.table(table);
  out.line(fmt::format("from {} to {} UTC", short_time(body.value("since", "")),
                       short_time(body.value("until", ""))));
  if (const auto left_out = count_in(body, "left_out"); left_out > 0)
    out.line(fmt::format("{} more are not shown, and are counted in all: --most shows them", left_out));
}

void print_csv(const json& body, Terminal& out) {
  out.line(fmt::format("{},sessions,time_s,input_octets,output_octets,peak", csv_cell(body.value("by", ""))));
  for (const json& row : body.at("rows"))
    out.line(fmt::format("{},{},{},{},{},{}", csv_cell(row.value("whose", "")), count_in(row, "sessions"),
                         count_in(row, "time_s"), count_in(row, "input_octets"),
                         count_in(row, "output_octets"), count_in(row, "peak")));
}

// The largest unit in which the most is at least one.
std::pair<double, const char*> unit_of(double most) {
  static constexpr std::array kUnits{std::pair{1e12, "TB"}, std::pair{1e9, "GB"}, std::pair{1e6, "MB"},
                                     std::pair{1e3, "kB"}};
  for (const auto& [size, name] : kUnits)
    if (most >= size) return {size, name};
  return {1, "octets"};
}

// Of an hour, the date stands at midnight only.
std::string short_name(const std::string& whose) {
  const bool is_hour = whose.size() == 16 && whose[10] == ' ' && whose[13] == ':';
  return is_hour && !whose.ends_with(" 00:00") ? whose.substr(11) : whose;
}

// Octets above, sessions at once below; of rows that are no times, the first 30.
std::string plot_script(const json& body) {
  constexpr std::size_t kMostBars = 30;
  const bool by_time = is_by_time(body);
  double most = 0;
  for (const json& row : body.at("rows"))
    most =
        std::max(most, static_cast<double>(count_in(row, "input_octets") + count_in(row, "output_octets")));
  const auto [unit, unit_name] = unit_of(most);
  std::string data;
  std::size_t bars = 0;
  const std::size_t count = by_time ? body.at("rows").size() : std::min(kMostBars, body.at("rows").size());
  const std::size_t each = std::max<std::size_t>(1, count / 24);  // not every one has room for its name
  for (const json& row : body.at("rows")) {
    if (bars == count) break;
    const std::string whose = row.value("whose", "");
    const std::string name = bars % each != 0 ? ""
                             : whose.empty()  ? "(none)"
                             : bars == 0      ? whose
                                              : short_name(whose);
    ++bars;
    std::string quoted;
    for (const char c : escaped(name)) quoted += c == '"' || c == '\\' ? std::string() : std::string(1, c);
    data +=
        fmt::format("\"{}\" {} {} {} {}\n", quoted, static_cast<double>(count_in(row, "input_octets")) / unit,
                    static_cast<double>(count_in(row, "output_octets")) / unit, count_in(row, "peak"),
                    static_cast<double>(count_in(row, "time_s")) / 3600);
  }
  const std::string title =
      fmt::format("usage by {}, {} to {} UTC", heading_of(body), short_time(body.value("since", "")),
                  short_time(body.value("until", "")));
  return fmt::format(
      "$data << END\n{}END\nset multiplot layout 2,1 title {}\nset style data histograms\n"
      "set style histogram rowstacked\nset style fill solid 0.9 border -1\nset boxwidth 0.75\nset grid "
      "ytics\n"
      "set key outside right\nset lmargin 12\nset rmargin 22\nset xtics rotate by -35 font ',10'\nset yrange "
      "[0:*]\n"
      "set offsets 0, 0, graph 0.05, 0\nset ylabel {}\n"
      "plot $data using 2:xtic(1) title 'in' lc rgb '#3b7dd8', $data using 3 title 'out' lc rgb '#e09f3e'\n"
      "set ylabel 'sessions, hours'\nset style histogram clustered gap 1\n"
      "plot $data using 4:xtic(1) title 'most at once' lc rgb '#2a9d5c', $data using 5 title "
      "'hours in all' "
      "lc rgb '#9aa5b1'\nunset multiplot\n",
      data, plot_text(title), plot_text(unit_name));
}

Exit show_usage(const Arguments& arguments, Terminal& terminal) {
  auto query = accounting_query(arguments);
  if (!query) return report(query.error(), terminal);
  query->emplace_back("by", arguments.get("--by", "user"));
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/accounting/usage", *query);
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--plot")) {
    if (count_in(body->at("all"), "sessions") == 0) {
      terminal.line("nothing was used, and nothing is drawn");
      return Exit::done;
    }
    const std::string file = arguments.get("--plot");
    if (const Status drawn = draw(file, plot_script(*body)); !drawn) return report(drawn.error(), terminal);
    terminal.line(fmt::format("drawn: {}", file));
  } else if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else if (arguments.has("--csv")) {
    print_csv(*body, terminal);
  } else {
    print_usage(*body, terminal);
  }
  return Exit::done;
}

}  // namespace

Command accounting_usage_command() {
  std::vector<Option> options = accounting_filters();
  options.insert(options.begin(),
                 {"--by", "WHAT",
                  "a row for each user (default), realm, client, nas, label:NAME of the client, "
                  "day, or hour"});
  options.push_back({"--csv", "", "comma-separated values instead of a table"});
  options.push_back({"--plot", "FILE", "draw it: an SVG, or a PNG if the name ends with .png"});
  return {"accounting usage",
          "Show who used how much in a period, or when: sessions, time, octets, the most at once",
          "jembatan accounting usage --by label:place --since 2026-11-01 --lab reef-1",
          reading_options(std::move(options)),
          {},
          show_usage};
}

}  // namespace jembatan::cli
