#include "cli/bundle.h"

#include <nlohmann/json.hpp>

#include "plan/read.h"

namespace jembatan::cli {

namespace fs = std::filesystem;
using nlohmann::json;

Result<json> bundle_of(const fs::path& folder) {
  document::Problems problems;
  const auto files = plan::folder_files(folder, problems);
  if (!files) return fail(Errc::malformed, problems.text() + problems.count_text());
  json out{{"files", json::array()}, {"secret_files", json::object()}, {"variables", json::object()}};
  for (const plan::SourceFile& file : *files)
    out["files"].push_back({{"name", file.name}, {"text", file.text}});
  const plan::Outside outside = plan::folder_outside(folder);
  document::Problems ignored;  // the node reports them, with all others
  for (document::File& file : plan::parse(*files, ignored)) {
    if (file.name.starts_with(plan::kDictionaryFolder)) continue;
    for (document::Entry& section : file.root.entries) {
      for (document::Value& item : section.value.items) {
        plan::each_secret(item, plan::any_attribute, [&](document::Entry& entry) {
          if (entry.value.kind != document::Kind::table || entry.value.entries.size() != 1) return;
          const document::Entry& source = entry.value.entries.front();
          if (source.key == "file") {
            if (const auto text = outside.file(source.value.text))
              out["secret_files"][source.value.text] = *text;
          } else if (source.key == "env") {
            if (const auto text = outside.variable(source.value.text))
              out["variables"][source.value.text] = *text;
          }
        });
      }
    }
  }
  return out;
}

}  // namespace jembatan::cli
