// jembatan accounting export: records as a file, each once, also if a nightly job is killed.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/csv.h"
#include "cli/listing.h"
#include "cli/new_file.h"
#include "document/parse.h"

namespace jembatan::cli {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;

constexpr std::int64_t kAtATime = 2000;
constexpr std::array kColumns{
    "id",        "received",       "event_time",   "client",        "source",         "nas",
    "port",      "status",         "session_id",   "user",          "realm",          "calling_station",
    "framed_ip", "session_time_s", "input_octets", "output_octets", "terminate_cause"};

std::string csv_row(const json& record) {
  std::string out;
  for (const char* column : kColumns) {
    if (!out.empty()) out += ',';
    const json value = record.value(column, json());
    if (!value.is_null()) out += value.is_string() ? csv_cell(value.get<std::string>()) : value.dump();
  }
  return out + "\n";
}

std::string csv_heading() {
  return fmt::format("{}\n", fmt::join(kColumns, ","));
}

// Where the last export ended. Before a file gets its name it is told which one: who was killed in between
// knows by its part whether it has, wherever the file has been moved since.
class Checkpoint {
 public:
  ///   of  what is exported: it must be the same each time
  static Result<Checkpoint> open(const fs::path& file, const json& of) {
    Checkpoint out;
    out.file_ = file;
    out.of_ = of;
    out.lock_ = ::open((file.string() + ".lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600);
    if (out.lock_ < 0) return io_error(file.string() + ".lock");
    if (::flock(out.lock_, LOCK_EX | LOCK_NB) != 0)
      return fail(Errc::conflict, fmt::format("'{}' is in use by another export", file.string()));
    if (!is_there(file)) return out;
    const auto text = document::read_file(file);
    if (!text) return text.error();
    const json body = json::parse(*text, nullptr, false);
    const auto wrong = [&] {
      return fail(Errc::malformed, fmt::format("'{}' is no checkpoint of an export", file.string()));
    };
    if (!body.is_object() || !body.contains("behind") || !body["behind"].is_number_integer()) return wrong();
    if (body.value("of", json()) != of)
      return fail(Errc::conflict,
                  fmt::format("'{}' is the checkpoint of another export, of {}, and this is of {}",
                              file.string(), body.value("of", json()).dump(), of.dump()));
    out.behind_ = body["behind"].get<std::int64_t>();
    if (!body.contains("writing")) return out;
    const json& writing = body["writing"];
    if (!writing.is_object() || !writing.value("file", json()).is_string() ||
        !writing.value("behind", json()).is_number_integer())
      return wrong();
    if (!is_there(NewFile::part_of(writing["file"].get<std::string>())))
      out.behind_ = writing["behind"].get<std::int64_t>();
    return out;
  }
  Checkpoint() = default;
  Checkpoint(Checkpoint&& other) noexcept
      : file_(std::move(other.file_)),
        of_(std::move(other.of_)),
        lock_(std::exchange(other.lock_, -1)),
        behind_(other.behind_) {}
  ~Checkpoint() {
    if (lock_ >= 0) ::close(lock_);
  }

  std::int64_t behind() const { return behind_; }
  Status about_to_be(const fs::path& file, std::int64_t behind) const {
    return write_new(file_, json{{"of", of_},
                                 {"behind", behind_},
                                 {"writing", {{"file", fs::absolute(file).string()}, {"behind", behind}}}}
                                    .dump() +
                                "\n");
  }
  Status is(std::int64_t behind) const {
    return write_new(file_, json{{"of", of_}, {"behind", behind}}.dump() + "\n");
  }

 private:
  fs::path file_;
  json of_;
  int lock_ = -1;
  std::int64_t behind_ = 0;
};

struct Exporting {
  std::int64_t behind = 0;  // the last record that was written
  std::uint64_t records = 0;
};

// Page by page, up to the newest record of the moment at which it begins.
//   whole  with all attributes
Status each_record(NodeClient& node, const QueryParts& query, bool whole, Exporting& at,
                   const std::function<Status(const json&)>& write) {
  const auto newest = node.call("GET", "/v1/accounting/records", {{"most", "1"}});
  if (!newest) return newest.error();
  if (newest->at("records").empty()) return {};
  const auto last = newest->at("records").front().at("id").get<std::int64_t>();
  if (at.behind > last)
    return fail(
        Errc::conflict,
        fmt::format(
            "the checkpoint says record {}, and the newest of the node is {}: its store is another one",
            at.behind, last));
  while (at.behind < last) {
    QueryParts page = query;
    page.emplace_back("behind", std::to_string(at.behind));
    page.emplace_back("most", std::to_string(kAtATime));
    if (!whole) page.emplace_back("attributes", "false");
    const auto body = node.call("GET", "/v1/accounting/records", page);
    if (!body) return body.error();
    const json& records = body->at("records");
    for (const json& record : records) {
      if (const Status written = write(record); !written) return written;
      at.behind = record.at("id").get<std::int64_t>();
      ++at.records;
    }
    if (records.size() < static_cast<std::size_t>(kAtATime)) return {};
  }
  return {};
}

Status to_file(const Arguments& arguments, NodeClient& node, const QueryParts& query, Exporting& at,
               const std::function<std::string(const json&)>& text_of_record) {
  const fs::path file = arguments.get("--out");
  std::optional<Checkpoint> checkpoint;
  if (arguments.has("--checkpoint")) {
    const auto whose = node.call("GET", "/v1/node");
    if (!whose) return whose.error();
    auto opened = Checkpoint::open(arguments.get("--checkpoint"),
                                   {{"node", whose->value("name", "")}, {"only", query}});
    if (!opened) return opened.error();
    at.behind = opened->behind();
    checkpoint.emplace(std::move(*opened));
  }
  if (is_there(file))
    return fail(Errc::conflict,
                fmt::format("'{}' is there already: each export has a file of its own", file.string()));
  auto out = NewFile::open(file);
  if (!out) return out.error();
  if (!arguments.has("--json-lines"))
    if (const Status written = out->write(csv_heading()); !written) return written;
  const Status done = each_record(node, query, arguments.has("--json-lines"), at,
                                  [&](const json& record) { return out->write(text_of_record(record)); });
  if (!done) return done;
  if (const Status synced = out->sync(); !synced) return synced;
  if (checkpoint)
    if (const Status told = checkpoint->about_to_be(file, at.behind); !told) return told;
  if (const Status moved = out->name(); !moved) return moved;
  return checkpoint ? checkpoint->is(at.behind) : Status{};
}

Exit export_records(const Arguments& arguments, Terminal& terminal) {
  const auto query = accounting_query(arguments);
  if (!query) return report(query.error(), terminal);
  if (arguments.has("--checkpoint") && !arguments.has("--out"))
    return report(
        fail(Errc::malformed, "--checkpoint without --out: only of a file it is known that it is whole"),
        terminal);
  if (arguments.has("--checkpoint") && (arguments.has("--since") || arguments.has("--until")))
    return report(
        fail(Errc::malformed, "--checkpoint says where to go on: it goes without --since and --until"),
        terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const bool lines = arguments.has("--json-lines");
  const auto text_of_record = [&](const json& record) {
    return lines ? record.dump() + "\n" : csv_row(record);
  };
  Exporting at;
  if (arguments.has("--out")) {
    const Status done = to_file(arguments, *node, *query, at, text_of_record);
    if (!done) return report(done.error(), terminal);
    terminal.line(fmt::format("{} records in '{}'{}", at.records, arguments.get("--out"),
                              at.behind == 0 ? "" : fmt::format(", the last is {}", at.behind)));
    return Exit::done;
  }
  if (!lines) terminal.out(csv_heading());
  const Status done = each_record(*node, *query, lines, at, [&](const json& record) -> Status {
    terminal.out(text_of_record(record));
    return {};
  });
  return done ? Exit::done : report(done.error(), terminal);
}

}  // namespace

Command accounting_export_command() {
  std::vector<Option> options = accounting_filters();
  std::erase_if(options, [](const Option& one) { return one.name == "--most"; });
  options.push_back(
      {"--out", "FILE", "into a file that gets its name when it is whole; default: standard output"});
  options.push_back({"--json-lines", "", "one JSON document a line, with all attributes, instead of CSV"});
  options.push_back(
      {"--checkpoint", "FILE",
       "remembers there what was exported, and goes on behind it: each record once, also if it is "
       "killed"});
  std::vector<Option> all = node_options();
  options.insert(options.end(), all.begin(), all.end());
  return {"accounting export",
          "Write the records of a node as CSV or JSON, the oldest first",
          "jembatan accounting export --lab reef-1 --checkpoint export.state --out 2026-11-26.csv",
          std::move(options),
          {},
          export_records};
}

}  // namespace jembatan::cli
