// A plan in a folder of the operator's.
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "document/parse.h"
#include "plan/read.h"

namespace jembatan::plan {
namespace {

// The *.toml files of a folder, sorted; nothing if it cannot be read.
std::optional<std::vector<std::filesystem::path>> toml_files(const std::filesystem::path& folder,
                                                             std::error_code& failed) {
  std::vector<std::filesystem::path> out;
  for (std::filesystem::directory_iterator it(folder, failed), end; !failed && it != end;
       it.increment(failed)) {
    if (it->path().extension() == ".toml") out.push_back(it->path());
  }
  if (failed) return std::nullopt;
  std::sort(out.begin(), out.end());
  return out;
}

}  // namespace

std::optional<std::vector<SourceFile>> folder_files(const std::filesystem::path& folder,
                                                    document::Problems& problems) {
  const auto report = [&](const std::string& text) {
    problems.add(
        {document::Level::error, folder.string(), {}, text, "a readable folder with *.toml files", "", 1});
    return std::nullopt;
  };
  std::error_code failed;
  auto paths = toml_files(folder, failed);
  if (!paths) return report("plan folder cannot be read: " + failed.message());
  if (paths->empty()) return report("plan folder has no *.toml file");
  if (const auto more = toml_files(folder / kDictionaryFolder, failed))
    paths->insert(paths->end(), more->begin(), more->end());
  std::vector<SourceFile> files;
  for (const auto& path : *paths) {
    auto text = document::read_file(path);
    if (!text) return report(text.error().text);
    files.push_back({path.lexically_relative(folder).string(), std::move(*text)});
  }
  return files;
}

Outside folder_outside(const std::filesystem::path& folder) {
  Outside out;
  out.file = [folder](const std::string& name) { return document::read_file(folder / name); };
  out.variable = [](const std::string& name) -> Result<std::string> {
    const char* value = std::getenv(name.c_str());
    if (value == nullptr)
      return fail(Errc::not_found, fmt::format("environment variable '{}' is not set", name));
    return std::string(value);
  };
  return out;
}

PlanPtr read_folder(const std::filesystem::path& folder, document::Problems& problems,
                    std::optional<WallTime> now) {
  const auto files = folder_files(folder, problems);
  Outside outside = folder_outside(folder);
  outside.now = now;
  return files ? read(*files, outside, problems) : nullptr;
}

}  // namespace jembatan::plan
