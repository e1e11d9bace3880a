#include "cli/exported.h"

#include <fmt/format.h>

#include <fstream>

#include "base/octets.h"
#include "document/parse.h"
#include "revision/seal.h"

namespace jembatan::cli {
namespace {

constexpr const char* kFile = ".plan-revision";

std::string digest_of(const std::filesystem::path& file) {
  const auto text = document::read_file(file);
  return text ? to_hex(revision::sha256(view_of(*text))) : "";
}

}  // namespace

Exported Exported::of(const std::filesystem::path& folder) {
  Exported out;
  out.folder_ = folder;
  std::ifstream in(folder / kFile);
  std::string word;
  if (!(in >> word) || word.empty() || word.size() > 15 ||
      word.find_first_not_of("0123456789") != std::string::npos)
    return out;
  out.revision_ = std::stoull(word);
  std::string digest;
  while (in >> digest && std::getline(in >> std::ws, word)) out.files_[word] = digest;
  return out;
}

bool Exported::wrote(const std::filesystem::path& name) const {
  const auto found = files_.find(name.string());
  return found != files_.end() && found->second == digest_of(folder_ / name);
}

Status Exported::remember(std::uint64_t revision, const std::vector<std::filesystem::path>& files) {
  files_.clear();
  for (const auto& name : files) files_[name.string()] = "";
  return remember(revision);
}

Status Exported::remember(std::uint64_t revision) {
  revision_ = revision;
  std::ofstream out(folder_ / kFile, std::ios::trunc);
  out << revision << "\n";
  for (auto& [name, digest] : files_) {
    digest = digest_of(folder_ / name);
    out << digest << " " << name << "\n";
  }
  out.close();
  if (out) return {};
  return fail(Errc::io, fmt::format("file '{}' cannot be written", (folder_ / kFile).string()));
}

}  // namespace jembatan::cli
