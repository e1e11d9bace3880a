// jembatan ask load: many requests, how they came out, and how long they took.
#include <fmt/format.h>

#include <memory>
#include <nlohmann/json.hpp>
#include <set>

#include "base/text.h"
#include "cli/csv.h"
#include "cli/load.h"
#include "cli/node_access.h"
#include "cli/peer.h"
#include "cli/plot.h"
#include "cli/secrets.h"
#include "cli/shares.h"
#include "document/parse.h"
#include "host/system.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

Result<double> read_number(const Arguments& arguments, const char* option, double fallback, double least,
                           double most) {
  if (!arguments.has(option)) return fallback;
  const std::string text = arguments.get(option);
  char* end = nullptr;
  const double value = std::strtod(text.c_str(), &end);
  if (!text.empty() && *end == '\0' && value >= least && value <= most) return value;
  return fail(Errc::malformed, fmt::format("{} '{}'; allowed: {} to {}", option, escaped(text), least, most));
}

Result<LoadWish> read_wish(const Arguments& arguments) {
  LoadWish out;
  if (arguments.has("--rate") && arguments.has("--window"))
    return fail(Errc::malformed, "one of --rate (an open loop) and --window (a closed one)");
  const auto rate = read_number(arguments, "--rate", 0, 0.1, 1e6);
  const auto window = read_number(arguments, "--window", 16, 1, 16384);
  const auto sockets = read_number(arguments, "--sockets", 4, 1, 256);
  const auto accounting = read_number(arguments, "--accounting", 0, 0, 90);
  for (const auto* one : {&rate, &window, &sockets, &accounting})
    if (!*one) return one->error();
  const auto lasts = parse_duration(arguments.get("--for", "10s"));
  if (!lasts || *lasts < Duration{100} || *lasts > std::chrono::hours(24))
    return fail(Errc::malformed,
                fmt::format("--for '{}'; allowed: 100ms to 24h", escaped(arguments.get("--for"))));
  const auto wait = parse_duration(arguments.get("--wait", "5s"));
  if (!wait || *wait < Duration{1}) return fail(Errc::malformed, "--wait is no time, like 5s");
  out.rate = *rate;
  out.window = static_cast<std::size_t>(*window);
  out.sockets = static_cast<std::size_t>(*sockets);
  out.accounting_percent = static_cast<unsigned>(*accounting);
  out.lasts = *lasts;
  out.wait = *wait;
  return out;
}

// Who signs in: of a CSV file with the columns user and password, and maybe method; or the one of --user.
Result<std::vector<Question>> sign_ins_of(const Arguments& arguments) {
  Arguments first = arguments;
  first.set_positionals({});
  std::vector<std::string> methods = arguments.all("--method");
  if (methods.empty()) methods.emplace_back("pap");
  first.set("--method", methods.front());
  std::vector<std::vector<std::string>> people;  // user, password, method or nothing
  if (arguments.has("--users")) {
    const auto text = document::read_file(arguments.get("--users"));
    if (!text) return text.error();
    const auto rows = read_csv(*text);
    if (!rows) return rows.error().at(arguments.get("--users"));
    const auto& heading = rows->empty() ? std::vector<std::string>{} : rows->front().cells;
    if (rows->size() < 2 || heading.size() < 2 || heading[0] != "user" || heading[1] != "password")
      return fail(Errc::malformed,
                  fmt::format("{}: allowed: a first row user,password or user,password,method, and a row "
                              "for each of them",
                              arguments.get("--users")));
    for (std::size_t i = 1; i < rows->size(); ++i) people.push_back((*rows)[i].cells);
    first.set("--user", people.front()[0]);
    first.set("--password", people.front()[1]);
  } else if (!arguments.has("--user")) {
    return fail(Errc::malformed, "who signs in? --user NAME with --password-file FILE, or --users FILE");
  }
  auto question = Question::access(first);
  if (!question) return question.error();
  std::vector<Question> out;
  if (people.empty()) {
    for (const std::string& method : methods) {
      auto same = question->by_method(method);
      if (!same) return same.error();
      out.push_back(std::move(*same));
    }
  }
  for (const auto& person : people) {
    const bool own = person.size() > 2 && !person[2].empty();
    for (const std::string& method : own ? std::vector<std::string>{person[2]} : methods) {
      auto one = question->by_method(method);
      if (!one) return one.error().at(person[0]);
      out.push_back(one->of_person(person[0], Secret(person[1])));
    }
  }
  return out;
}

// Start and Stop of sessions that are new in this run.
Result<std::vector<Question>> records_of(const Arguments& arguments, const LoadWish& wish) {
  std::vector<Question> out;
  if (wish.accounting_percent == 0) return out;
  host::SystemRandom random;
  Arguments options = arguments;
  options.set_positionals({});
  options.set("--session-id", "load-" + random.letters(8));
  for (const char* status : {"Start", "Stop"}) {
    options.set("--status", status);
    auto question = Question::accounting(options);
    if (!question) return question.error();
    out.push_back(std::move(*question));
  }
  return out;
}

/// Where the asked node sent the requests on; nothing if it is none of ours.
class Shares {
 public:
  explicit Shares(const Arguments& arguments) {
    if (!arguments.has("--lab") && !arguments.has("--node")) return;
    if (auto opened = NodeClient::open(arguments)) node_ = std::make_unique<NodeClient>(std::move(*opened));
    before_ = counts();
  }
  ByServer since() { return between(before_, counts()); }

 private:
  ByServer counts() {
    auto out = node_ ? requests_by_server(*node_) : Result<ByServer>(ByServer{});
    return out ? std::move(*out) : ByServer{};
  }
  std::unique_ptr<NodeClient> node_;
  ByServer before_;
};

std::string ms(std::uint32_t us) {
  return us < 1000000 ? fmt::format("{:.1f} ms", us / 1000.0) : fmt::format("{:.1f} s", us / 1e6);
}

constexpr std::array<std::pair<double, const char*>, 4> kParts{
    {{0.5, "half"}, {0.9, "90 %"}, {0.99, "99 %"}, {0.999, "99.9 %"}}};

std::string load_text(const LoadWish& wish) {
  const std::string lasts = text_of(wish.lasts);
  return wish.rate > 0 ? fmt::format("{} requests a second for {}", wish.rate, lasts)
                       : fmt::format("{} at a time for {}", wish.window, lasts);
}

void print_result(const LoadWish& wish, const LoadResult& result, const ByServer& shares,
                  Terminal& terminal) {
  const LoadSum sum = sum_of(result);
  const double seconds = std::chrono::duration<double>(wish.lasts).count();
  terminal.line(terminal.coloured(
      fmt::format("{}: {}, {:.1f} a second", load_text(wish), counted(sum.requests, "request"),
                  static_cast<double>(sum.requests) / seconds),
      Colour::bold));
  for (const auto& [outcome, count] : sum.outcomes)
    terminal.line(fmt::format("  {:20} {:>10}  {:5.1f} %", outcome, count,
                              100.0 * static_cast<double>(count) / static_cast<double>(sum.requests)));
  if (!sum.took.empty()) {
    std::vector<std::string> parts;
    for (const auto& [part, name] : kParts)
      parts.push_back(fmt::format("{} within {}", name, ms(sum.within(part))));
    terminal.line(fmt::format("  answered, from when it was due: {}, the longest after {}", join(parts, ", "),
                              ms(sum.took.back())));
  }
  if (result.held_back > 0)
    terminal.line(fmt::format("  {} were due when all Identifiers were in use, and left later: --sockets",
                              result.held_back));
  for (const auto& [purpose, servers] : shares) {
    std::uint64_t all = 0;
    for (const auto& [server, count] : servers) all += count;
    std::vector<std::string> parts;
    for (const auto& [server, count] : servers)
      parts.push_back(
          fmt::format("{} {:.1f} %", server, 100.0 * static_cast<double>(count) / static_cast<double>(all)));
    terminal.line(fmt::format("  {} went on to: {}", purpose, join(parts, ", ")));
  }
}

json result_json(const LoadWish& wish, const LoadResult& result, const ByServer& shares) {
  const LoadSum sum = sum_of(result);
  json times = json::object();
  for (const auto& [part, name] : kParts) times[fmt::format("p{}", part * 100)] = sum.within(part);
  json seconds = json::array();
  for (const LoadSecond& second : result.seconds) {
    auto took = second.took;
    std::sort(took.begin(), took.end());
    const auto at = [&](double part) {
      return took.empty() ? 0U
                          : took[std::min(took.size() - 1,
                                          static_cast<std::size_t>(part * static_cast<double>(took.size())))];
    };
    seconds.push_back(
        {{"sent", second.sent}, {"outcomes", second.outcomes}, {"p50_us", at(0.5)}, {"p99_us", at(0.99)}});
  }
  return {
      {"requests", sum.requests},
      {"per_second", static_cast<double>(sum.requests) / std::chrono::duration<double>(wish.lasts).count()},
      {"outcomes", sum.outcomes},
      {"answered_within_us", times},
      {"longest_us", sum.took.empty() ? 0U : sum.took.back()},
      {"held_back", result.held_back},
      {"servers", shares},
      {"seconds", seconds}};
}

// One line of numbers for each second: when, what was sent, each outcome, half and 99 of 100, the longest.
std::string plot_data(const json& body, const std::set<std::string>& outcomes) {
  std::string out;
  std::size_t second = 0;
  for (const json& row : body.at("seconds")) {
    out += fmt::format("{} {}", second++, row.value("sent", 0));
    for (const std::string& name : outcomes) out += fmt::format(" {}", row.at("outcomes").value(name, 0));
    out += fmt::format(" {} {}\n", std::max(row.value("p50_us", 0), 1) / 1000.0,
                       std::max(row.value("p99_us", 0), 1) / 1000.0);
  }
  return out;
}

std::string colour_in_plot(const std::string& outcome) {
  static const std::map<std::string, std::string> kColours{{"Access-Accept", "#2a9d5c"},
                                                           {"Access-Reject", "#d1495b"},
                                                           {"Access-Challenge", "#e09f3e"},
                                                           {"Accounting-Response", "#3b7dd8"},
                                                           {"no answer", "#222222"}};
  const auto found = kColours.find(outcome);
  return found == kColours.end() ? "#9b5de5" : found->second;
}

Status plot(const json& body, const std::string& title, const std::string& file) {
  std::set<std::string> outcomes;
  for (const auto& [name, count] : body.at("outcomes").items()) outcomes.insert(name);
  std::string script = fmt::format(
      "$data << END\n{}END\n"
      "set multiplot layout 2,1 title {}\nset grid\nset key outside right\nset xrange [0:{}]\nset lmargin "
      "12\nset rmargin 28\n"
      "set offsets 0, 0, graph 0.1, 0\nset ylabel 'requests a second'\nset yrange [0:*]\n"
      "plot $data using 1:2 with steps lw 4 lc rgb '#cccccc' title 'sent'",
      plot_data(body, outcomes), plot_text(title), std::max<std::size_t>(body.at("seconds").size(), 2) - 1);
  std::size_t column = 3;
  for (const std::string& name : outcomes)
    script += fmt::format(", $data using 1:{} with linespoints pt 7 ps 0.5 lw 2 lc rgb '{}' title '{}'",
                          column++, colour_in_plot(name), name);
  script += fmt::format(
      "\nset xlabel 'seconds'\nset ylabel 'ms, from when it was due'\nset offsets\nset logscale y\nset "
      "yrange [*:*]\n"
      "set ytics (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10000)\n"
      "plot $data using 1:{} with linespoints pt 7 ps 0.5 lw 2 lc rgb '#3b7dd8' title 'half within', "
      "$data using 1:{} with linespoints pt 7 ps 0.5 lw 2 lc rgb '#d1495b' title '99 of 100 within'\nunset "
      "multiplot\n",
      column, column + 1);
  return draw(file, script);
}

Exit ask_load(const Arguments& arguments, Terminal& terminal) {
  const auto wish = read_wish(arguments);
  if (!wish) return report(wish.error(), terminal);
  const auto sign_ins = sign_ins_of(arguments);
  if (!sign_ins) return report(sign_ins.error(), terminal);
  const auto records = records_of(arguments, *wish);
  if (!records) return report(records.error(), terminal);
  const bool as_json = arguments.has("--json");
  if (!as_json) terminal.line("asking " + sign_ins->front().whom());
  Shares shares(arguments);
  const auto result = run_load(*wish, *sign_ins, *records, [&](const LoadResult& so_far) {
    if (as_json || !terminal.is_terminal() || so_far.seconds.size() < 2) return;
    const LoadSecond& last = so_far.seconds[so_far.seconds.size() - 2];
    std::vector<std::string> parts;
    for (const auto& [name, count] : last.outcomes) parts.push_back(fmt::format("{} {}", name, count));
    terminal.note(
        fmt::format("{:4} s  sent {}, {}", so_far.seconds.size() - 1, last.sent, join(parts, ", ")));
  });
  if (!result) return report(result.error(), terminal);
  const auto went_to = shares.since();
  const json body = result_json(*wish, *result, went_to);
  if (as_json) {
    terminal.line(body.dump(2));
  } else {
    print_result(*wish, *result, went_to, terminal);
  }
  if (arguments.has("--plot")) {
    if (const Status drawn = plot(body, load_text(*wish), arguments.get("--plot")); !drawn)
      return report(drawn.error(), terminal);
  }
  const LoadSum sum = sum_of(*result);
  return sum.outcomes.contains("no answer") || sum.outcomes.contains("not genuine") ? Exit::no : Exit::done;
}

}  // namespace

Command ask_load_command() {
  std::vector<Option> options{
      {"--user", "NAME", "who signs in"},
      {"--password-file", "FILE", "file with the password"},
      {"--password", "TEXT", "the password itself; without both, it is asked for"},
      {"--users", "FILE",
       "many instead: CSV with the columns user, password, and maybe method; each in turn"},
      {"--method", "NAME", "pap (default), chap, ms-chap, ms-chap-v2; may be given again: in turn", false, "",
       true},
      {"--rate", "NUMBER", "requests a second, whether answers come or not (an open loop)"},
      {"--window", "NUMBER", "or so many at a time (a closed loop); default 16"},
      {"--for", "TIME", "how long; default 10s"},
      {"--sockets", "NUMBER", "source ports, each with 256 Identifiers; default 4"},
      {"--accounting", "PERCENT",
       "of the requests that are accounting: Start and Stop of new sessions; default 0"},
      {"--wait", "TIME", "how long to wait for each answer; default 5s; nothing is sent twice"},
      {"--plot", "FILE.svg", "draw rate, outcomes and times over the seconds (by gnuplot)"},
      {"--json", "", "one JSON document instead of text"}};
  for (Option& option : peer_options()) options.push_back(std::move(option));
  return {
      "ask load",
      "Send many sign-ins, and say how they came out and how long each took from when it was due",
      "jembatan ask load --lab hub --user tamu@reef.example --password-file password --rate 500 --for 30s",
      std::move(options),
      {},
      ask_load};
}

}  // namespace jembatan::cli
