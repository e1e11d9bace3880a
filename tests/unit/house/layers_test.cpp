// The layers hold: includes point down, and the core opens nothing.
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <map>
#include <regex>
#include <string>
#include <vector>

namespace jembatan {
namespace {

namespace fs = std::filesystem;

// From the lowest to the highest, with what each may include besides the standard library and those below it.
struct Layer {
  std::string name;
  bool core;
};
const std::vector<Layer> kLayers{
    {"base", true},       {"wire", true},   {"document", true}, {"dictionary", true}, {"condition", true},
    {"identity", true},   {"plan", true},   {"decide", true},   {"revision", true},   {"forward", true},
    {"accounting", true}, {"engine", true}, {"journal", true},  {"rehearsal", true},  {"host", false},
    {"bodies", false},    {"store", false}, {"shared", false},  {"directory", false}, {"server", false},
    {"admin", false},     {"lab", false},   {"cli", false}};

const std::regex kForbiddenInCore(
    "sys/socket|netinet/|arpa/|netdb|sys/un\\.h|poll\\.h|sys/"
    "epoll|asio|httplib|sqlite3|SQLiteCpp|termios|libpq|pqxx|ldap|"
    "CLI/|spdlog|nlohmann|ncurses|unistd");

struct Include {
  fs::path file;
  std::string folder;
  std::string target;
};

std::vector<Include> all_includes() {
  static const std::regex kInclude("^#include [<\"]([^>\"]+)[>\"]");
  std::vector<Include> out;
  const fs::path root = fs::path(JEMBATAN_SOURCE_DIR) / "src";
  for (const auto& entry : fs::recursive_directory_iterator(root)) {
    if (entry.path().extension() != ".h" && entry.path().extension() != ".cpp") continue;
    std::ifstream in(entry.path());
    std::smatch match;
    for (std::string line; std::getline(in, line);) {
      if (!std::regex_search(line, match, kInclude)) continue;
      out.push_back({entry.path(), entry.path().parent_path().filename().string(), match[1]});
    }
  }
  return out;
}

std::map<std::string, std::size_t> heights() {
  std::map<std::string, std::size_t> out;
  for (std::size_t i = 0; i < kLayers.size(); ++i) out[kLayers[i].name] = i;
  return out;
}

TEST(Layers, IncludesPointDown) {
  const auto height = heights();
  std::size_t seen = 0;
  for (const Include& include : all_includes()) {
    ASSERT_TRUE(height.contains(include.folder))
        << "a new folder '" << include.folder << "' needs its place here";
    const auto target = height.find(include.target.substr(0, include.target.find('/')));
    if (target == height.end()) continue;
    ++seen;
    EXPECT_LE(target->second, height.at(include.folder)) << include.file << " includes " << include.target;
  }
  EXPECT_GT(seen, 100U);
}

TEST(Layers, TheCoreIncludesNoSocketHttpTerminalOrDatabaseHeader) {
  const auto height = heights();
  for (const Include& include : all_includes()) {
    if (!kLayers[height.at(include.folder)].core) continue;
    EXPECT_FALSE(std::regex_search(include.target, kForbiddenInCore))
        << include.file << " includes " << include.target;
  }
}

TEST(Layers, AsioStaysInTheServerAndTomlInTheDocumentFolder) {
  for (const Include& include : all_includes()) {
    if (include.target.starts_with("asio")) {
      EXPECT_EQ(include.folder, "server") << include.file;
    }
    if (include.target.starts_with("toml++")) {
      EXPECT_EQ(include.folder, "document") << include.file;
    }
    if (include.target.starts_with("sqlite3") || include.target.starts_with("SQLiteCpp")) {
      EXPECT_EQ(include.folder, "store") << include.file;
    }
  }
}

}  // namespace
}  // namespace jembatan
