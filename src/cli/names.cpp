#include "cli/names.h"

#include <fmt/format.h>

#include <cstdlib>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "dictionary/read.h"
#include "document/parse.h"

namespace jembatan::cli {

Option dictionary_option() {
  return {"--dictionary", "PATH",
          "a dictionary file or folder besides the standard ones; default: those of the node's plan, if a "
          "node is named"};
}

namespace {

// A node without a plan folder is asked; one that does not answer has the standard names alone.
Result<dictionary::CataloguePtr> names_of_node(const Arguments& arguments) {
  auto node = NodeClient::open(arguments);
  if (!node) return dictionary::standard_catalogue();
  const auto body = node->call("GET", "/v1/plan/objects", {{"kind", "dictionary"}});
  if (!body) return dictionary::standard_catalogue();
  auto out = std::make_shared<dictionary::Catalogue>(dictionary::standard());
  document::Problems problems;
  for (const auto& object : body->at("objects")) {
    if (const auto file = document::parse(object.value("name", ""), object.value("text", ""), problems))
      dictionary::read_into(*out, *file, problems);
  }
  return dictionary::CataloguePtr(out);
}

}  // namespace

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
    if (node->plan_folder.empty()) return names_of_node(arguments);
    path = node->plan_folder / "dictionaries";
  }
  document::Problems problems;
  auto out = dictionary::read_catalogue(path, problems);
  if (problems.errors() == 0) return out;
  return fail(Errc::malformed, "the dictionaries have " + problems.count_text() + "\n" + problems.text());
}

}  // namespace jembatan::cli
