#include "cli/expectation.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "dictionary/encode.h"

namespace jembatan::cli {
namespace {

using dictionary::Described;

constexpr std::string_view kVlan = "Tunnel-Private-Group-ID";

}  // namespace

Result<std::vector<Described>> read_expectation(const std::string& given,
                                                const dictionary::Catalogue& names) {
  const std::size_t equals = given.find('=');
  if (equals == std::string::npos || equals == 0)
    return fail(Errc::malformed, fmt::format("'{}' is not ATTRIBUTE=VALUE, like vlan=30", escaped(given)));
  const bool vlan = given.substr(0, equals) == "vlan";
  const std::string name = vlan ? std::string(kVlan) : given.substr(0, equals);
  const std::string value = given.substr(equals + 1);
  if (value.empty()) {
    const auto known = dictionary::find_named(names, name);
    if (!known) return known.error();
    Described absent;
    absent.name = (*known)->name;
    absent.definition = *known;
    return std::vector{absent};
  }
  const auto encoded = dictionary::encode(names, name, vlan ? '"' + value + '"' : value);
  if (!encoded) return encoded.error();
  return dictionary::describe(names, *encoded);
}

namespace {

// One without a tag fits whatever tag the reply has.
bool same_name(const Described& expected, const Described& line) {
  if (expected.name == line.name) return true;
  return expected.definition != nullptr && expected.name == expected.definition->name &&
         line.definition == expected.definition;
}

}  // namespace

Option expect_option() {
  return {"--expect",
          "ATTRIBUTE=VALUE",
          "the reply must have it, like vlan=30; without a value: must not; may be given again",
          false,
          "",
          true};
}

Result<std::vector<Described>> read_expectations(const Arguments& arguments,
                                                 const dictionary::Catalogue& names) {
  std::vector<Described> out;
  for (const std::string& given : arguments.all("--expect")) {
    const auto lines = read_expectation(given, names);
    if (!lines) return lines.error().at("--expect");
    out.insert(out.end(), lines->begin(), lines->end());
  }
  return out;
}

std::vector<std::string> differences_from(const std::vector<Described>& expected,
                                          const std::vector<Described>& reply) {
  std::vector<std::string> out;
  for (const Described& wanted : expected) {
    std::vector<std::string> found;
    for (const Described& line : reply)
      if (same_name(wanted, line)) found.push_back(line.value);
    const bool any = std::find(found.begin(), found.end(), wanted.value) != found.end();
    if (wanted.value.empty() ? found.empty() : any) continue;
    out.push_back(fmt::format("expected {}, the reply has {}",
                              wanted.value.empty() ? "no " + wanted.name : wanted.name + " " + wanted.value,
                              found.empty() ? "none" : join(found, ", ")));
  }
  return out;
}

}  // namespace jembatan::cli
