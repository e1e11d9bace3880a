#include "cli/names.h"

#include <fmt/format.h>

#include <cstdlib>
#include <filesystem>

#include "dictionary/read.h"

namespace jembatan::cli {

Option dictionary_option() {
  return {"--dictionary", "PATH",
          "a dictionary file or folder besides the standard ones; default: those of the node's plan, if a "
          "node is named"};
}

Result<dictionary::CataloguePtr> find_names(const Arguments& arguments) {
  std::filesystem::path path = arguments.get("--dictionary");
  if (!path.empty() && !std::filesystem::exists(path)) {
    return fail(Errc::not_found, fmt::format("dictionary '{}' is not there", path.string()));
  }
  const bool node_named =
      arguments.has("--lab") || arguments.has("--node") || std::getenv("JEMBATAN_NODE") != nullptr;
  if (path.empty() && node_named) {
    const auto node = find_node(arguments);
    if (!node) return node.error();
    path = node->plan_folder / "dictionaries";
  }
  document::Problems problems;
  auto out = dictionary::read_catalogue(path, problems);
  if (problems.errors() == 0) return out;
  return fail(Errc::malformed, "the dictionaries have " + problems.count_text() + "\n" + problems.text());
}

}  // namespace jembatan::cli
