// jembatan factor, user factor: second proofs, and who has which.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"
#include "cli/objects.h"
#include "cli/qr.h"
#include "cli/secrets.h"
#include "cli/table_import.h"
#include "host/secret_file.h"
#include "host/system.h"
#include "identity/one_time_code.h"

namespace jembatan::cli {
namespace {

using identity::Token;
using nlohmann::json;

const Listing& factors() {
  static const Listing all{
      "factor",
      {"factor", "kind", "digits", "tries", "remembered", "locked after", "beside the password"},
      [](const json& object) {
        const std::string beside =
            object.contains("behind_when")   ? "behind: " + object.value("behind_when", "")
            : object.contains("before_when") ? "before: " + object.value("before_when", "")
                                             : "-";
        return std::vector<std::string>{cell(object, "name", 20),
                                        cell(object, "kind"),
                                        std::to_string(object.value("digits", 6)),
                                        std::to_string(object.value("tries", 1)),
                                        object.value("remember", "no"),
                                        fmt::format("{} wrong", object.value("lock_after", 10)),
                                        beside};
      },
      "code",
      "tries=3"};
  return all;
}

void print_enrolments(const json& rows, Terminal& out) {
  Table table({"user", "factor", "token", "counts", "last (UTC)", "recovery left", "state"});
  const auto time = [](const json& at, const char* none) {
    return at.is_string() ? short_time(at.get<std::string>()) : none;
  };
  for (const json& row : rows) {
    const json& locked = row.at("locked_until");
    std::string state =
        row.value("wrong", 0) == 0 ? "-" : fmt::format("{} wrong in a row", row.value("wrong", 0));
    if (locked.is_string()) state = "locked until " + time(locked, "");
    if (!row.value("problem", "").empty()) state = row.value("problem", "");
    table.add({row.value("user", ""), row.value("factor", ""), row.value("name", ""), row.value("counts", ""),
               time(row.at("last"), "never"), std::to_string(row.value("recovery_codes_left", 0)), state});
  }
  out.table(table);
}

Exit list_enrolments(const Arguments& arguments, Terminal& terminal) {
  const auto& names = arguments.positionals();
  QueryParts query;
  if (!names.empty()) query.emplace_back("user", names.front());
  return list_rows(
      arguments, terminal, query,
      {"/v1/enrolments", "enrolments", print_enrolments,
       names.empty() ? "nobody has a token" : fmt::format("user '{}' has no token", names.front())});
}

// The factor that is meant: the one that was named, or the only one.
Result<json> factor_of(NodeClient& node, const Arguments& arguments) {
  const auto body = node.call("GET", "/v1/plan/objects", {{"kind", "factor"}});
  if (!body) return body.error();
  std::vector<std::string> names;
  for (const json& one : body->at("objects")) {
    names.push_back(one.value("name", ""));
    if (arguments.get("--factor") == names.back()) return one;
  }
  if (!arguments.has("--factor") && names.size() == 1) return body->at("objects").front();
  if (names.empty())
    return fail(Errc::not_found, "the plan has no factor; to add one: jembatan factor add code kind=code");
  const auto near = nearest(arguments.get("--factor"), names);
  return fail(Errc::not_found, fmt::format("which factor? --factor {}{}", join(names, " or "),
                                           near ? fmt::format("; nearest: '{}'", *near) : ""));
}

Result<Token> token_of(const Arguments& arguments, const json& factor) {
  static constexpr std::array<std::string_view, 3> kHashes{"sha1", "sha256", "sha512"};
  const std::string& user = arguments.positionals().front();
  Token out;
  out.name = arguments.get("--name", fmt::format("{} {}", user, factor.value("name", "")));
  out.digits = factor.value("digits", 6U);
  const std::string counts = arguments.get("--counts", "time");
  if (counts != "time" && counts != "uses") return fail(Errc::malformed, "--counts is time or uses");
  out.counts = counts == "time" ? Token::Counts::time : Token::Counts::uses;
  const auto hash = std::find(kHashes.begin(), kHashes.end(), arguments.get("--hash", "sha1"));
  if (hash == kHashes.end()) return fail(Errc::malformed, "--hash is sha1, sha256 or sha512");
  out.hash = static_cast<Token::Hash>(hash - kHashes.begin());
  if (!arguments.has("--secret-file")) {
    Octets key(identity::kNewKey);
    host::SystemRandom().fill(key);
    out.key = Secret(text_of(key));
    wipe(key);
    return out;
  }
  const auto text = secret_in_file(arguments.get("--secret-file"));
  if (!text) return text.error();
  auto key = identity::key_in(text_of(text->reveal()));
  if (!key) return key.error().at(fmt::format("'{}'", arguments.get("--secret-file")));
  out.key = std::move(*key);
  return out;
}

json fields_of(const Token& token, const std::string& user, const json& factor) {
  static constexpr const char* kHashes[] = {"sha1", "sha256", "sha512"};
  json out{{"user", user},
           {"factor", factor.value("name", "")},
           {"secret", identity::to_base32(token.key.reveal())}};
  if (token.counts == Token::Counts::uses) out["counts"] = "uses";
  if (token.hash != Token::Hash::sha1) out["hash"] = kHashes[static_cast<std::size_t>(token.hash)];
  return out;
}

// What the person needs, who sees it this once.
Status show_new(const Token& token, const Arguments& arguments, Terminal& terminal) {
  const std::string& user = arguments.positionals().front();
  const Secret uri = identity::uri_of(token, user, arguments.get("--issuer"));
  const auto code = qr_code(uri);
  if (!code) return code.error();
  if (arguments.has("--png")) {
    const auto png = qr_png(*code);
    if (!png) return png.error();
    if (const Status written = host::write_secret_file(arguments.get("--png"), "QR code", *png); !written)
      return written;
    terminal.line(fmt::format("the QR code is in {}", arguments.get("--png")));
  } else {
    for (const std::string& line : qr_lines(*code)) terminal.line(terminal.coloured(line, Colour::paper));
    terminal.line(text_of(uri.reveal()));
  }
  terminal.line("");
  terminal.line("recovery codes, each serves once when the token is lost:");
  for (unsigned i = 0; i < identity::kRecoveryCodes; i += 4) {
    std::vector<std::string> some;
    for (unsigned j = i; j < i + 4; ++j) some.push_back(identity::recovery_code(token, j));
    terminal.line("  " + join(some, "  "));
  }
  terminal.line(
      fmt::format("nobody sees this again; to try the token: jembatan user factor test {} CODE", user));
  return {};
}

Exit enrol(const Arguments& arguments, Terminal& terminal) {
  const std::string& user = arguments.positionals().front();
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto factor = factor_of(*node, arguments);
  if (!factor) return report(factor.error(), terminal);
  const auto token = token_of(arguments, *factor);
  if (!token) return report(token.error(), terminal);
  const Exit exit =
      send_change(arguments, terminal, "/v1/plan/change",
                  one_change("add", "enrolment", token->name, fields_of(*token, user, *factor)));
  if (exit != Exit::done || arguments.has("--json") || arguments.has("--dry-run") ||
      arguments.has("--secret-file"))
    return exit;
  const Status shown = show_new(*token, arguments, terminal);
  return shown ? Exit::done : report(shown.error(), terminal);
}

const Fillable& token_columns() {
  static const Fillable all{{"name", "user", "factor", "secret", "counts", "hash", "step"},
                            {"user", "secret"}};
  return all;
}

// A token is called by its user and factor, unless a column says otherwise.
json token_of_row(const CsvRow& row, const ColumnMap& map, const std::string& factor) {
  json fields{{"factor", factor}};
  for (const auto& [field, column] : map) {
    const std::string text(trim(row.cells[column]));
    if (!text.empty()) fields[field] = text;
  }
  std::string name = fields.value("name", "");
  if (name.empty()) name = fields.value("user", "") + " " + fields.value("factor", "");
  fields.erase("name");
  return {{"do", "put"}, {"kind", "enrolment"}, {"name", name}, {"fields", std::move(fields)}};
}

Exit import_tokens(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto factor = factor_of(*node, arguments);
  if (!factor) return report(factor.error(), terminal);
  const std::string name = factor->value("name", "");
  return import_table(
      arguments, terminal,
      {"token", token_columns(), [&](const CsvRow& row, const ColumnMap& map) -> Result<json> {
         return token_of_row(row, map, name);
       }});
}

Exit remove_token(const Arguments& arguments, Terminal& terminal) {
  return send_change(arguments, terminal, "/v1/plan/change",
                     one_change("remove", "enrolment", arguments.positionals().front(), json::object()));
}

Exit test_code(const Arguments& arguments, Terminal& terminal) {
  const auto& words = arguments.positionals();
  json wish{{"user", words.front()}, {"factor", arguments.get("--factor")}};
  if (words.size() > 2) return report(fail(Errc::malformed, "one user and one code"), terminal);
  if (words.size() == 2) {
    wish["code"] = words[1];
  } else {
    const auto typed = typed_secret("code of " + words.front(), "give it behind the name");
    if (!typed) return report(typed.error(), terminal);
    wish["code"] = text_of(typed->reveal());
  }
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->post("/v1/factors/try", wish);
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else {
    for (const json& one : body->at("results")) {
      const bool right = one.value("right", false);
      terminal.line(
          fmt::format("{}: {}", one.value("factor", ""),
                      terminal.coloured(one.value("text", ""), right ? Colour::good : Colour::bad)));
    }
    terminal.line("nothing was noted: the code still serves, or still does not");
  }
  return body->value("right", false) ? Exit::done : Exit::no;
}

Exit unlock(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->post("/v1/users/unlock", {{"user", arguments.positionals().front()}});
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
    return Exit::done;
  }
  std::vector<std::string> what;
  for (const json& factor : body->at("factors"))
    what.push_back(fmt::format("codes of '{}'", factor.get<std::string>()));
  if (body->value("wrong_passwords", 0) > 0) what.emplace_back("passwords");
  terminal.line(what.empty() ? "nothing had been wrong, and nothing was locked"
                             : fmt::format("{} are looked at again at once", join(what, " and ")));
  return Exit::done;
}

std::vector<Option> enrol_options() {
  std::vector<Option> out{
      {"--factor", "NAME", "the factor; not needed if the plan has one alone"},
      {"--name", "NAME", "what to call the token; default: user and factor"},
      {"--issuer", "NAME", "whose codes they are, for the program that shows them"},
      {"--png", "FILE", "write the QR code to this new file, which others cannot read"},
      {"--counts", "WHAT", "what makes the next code: time (default) or uses"},
      {"--hash", "NAME", "sha1 (default), sha256 or sha512"},
      {"--secret-file", "FILE", "the secret of a token that is there already, in Base32"}};
  for (Option& option : change_options()) out.push_back(std::move(option));
  return out;
}

}  // namespace

std::vector<Command> factor_commands() {
  Command adding = add_command(factors());
  adding.summary =
      "Add a second factor, which access rules can ask for; kind=code: one-time codes out of a token";
  adding.example = "jembatan factor add code kind=code tries=3 --lab hub";
  return {
      list_command(factors()),
      show_command(factors()),
      adding,
      set_command(factors()),
      remove_command(factors()),
      {"user factor list",
       "List who has which token, and what has become of its codes",
       "jembatan user factor list indah@harbour.example --lab hub",
       reading_options(),
       {"USER", "with the realm; default: all", false, false},
       list_enrolments},
      {"user factor enrol",
       "Give a user a new token: prints a QR code for the program that shows the codes, and recovery codes",
       "jembatan user factor enrol indah@harbour.example --issuer Harbour --lab hub",
       enrol_options(),
       {"USER", "with the realm; of the plan or of a directory", true, false},
       enrol},
      {"user factor import",
       "Take tokens that are there already from a table (CSV), with their secrets in Base32; look first with "
       "--dry-run",
       "jembatan user factor import cards.csv --map user=Holder,secret=Seed,name=Serial --dry-run --lab hub",
       import_options("user=Holder,secret=Seed,name=Serial,counts=Kind",
                      {{"--factor", "NAME", "the factor; not needed if the plan has one alone"}}),
       {"FILE", "the table; its first row names the columns", true, false},
       import_tokens},
      {"user factor remove",
       "Take a token away: its codes, and its recovery codes, serve no more",
       "jembatan user factor remove 'indah@harbour.example code' --lab hub",
       change_options(),
       {"TOKEN", "its name, as 'user factor list' has it", true, false},
       remove_token},
      {"user factor test",
       "Look at a code without using it up: is it right, how far off is the token's clock",
       "jembatan user factor test indah@harbour.example 123456 --lab hub",
       reading_options({{"--factor", "NAME", "only for this factor"}}),
       {"USER [CODE]", "the user with the realm; without a code it is asked for", true, true},
       test_code},
      {"user unlock",
       "Look at a user's passwords and codes again at once, however many were wrong",
       "jembatan user unlock indah@harbour.example --lab hub",
       reading_options(),
       {"USER", "with the realm", true, false},
       unlock}};
}

}  // namespace jembatan::cli
