// The folders' order is part of the design: a lower one never includes a higher one.

#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <regex>
#include <string>
#include <vector>

namespace photonlane {
namespace {

TEST(Folders, LowerOnesNeverIncludeHigherOnes) {
  const std::vector<std::string> order{"base",    "lane",   "grid",    "field",  "fractal",
                                       "spheres", "voxels", "room",    "light",  "world",
                                       "plates",  "trace",  "shade",   "follow", "paths",
                                       "frame",   "walk",   "measure", "io"};
  const auto rank = [&](const std::string& folder) {
    return std::find(order.begin(), order.end(), folder) - order.begin();
  };
  const std::regex include("^#include \"(?:photonlane/)?([a-z]+)/.*");
  int checked = 0;
  for (const char* root : {"/src", "/include/photonlane"}) {
    for (const auto& entry :
         std::filesystem::recursive_directory_iterator(std::string(PHOTONLANE_SOURCE) + root)) {
      const std::string folder = entry.path().parent_path().filename().string();
      if (!entry.is_regular_file() || rank(folder) == std::ssize(order)) continue;
      std::ifstream file(entry.path());
      for (std::string line; std::getline(file, line);) {
        std::smatch match;
        if (!std::regex_match(line, match, include)) continue;
        EXPECT_LE(rank(match[1]), rank(folder)) << entry.path() << ": " << line;
        ++checked;
      }
    }
  }
  EXPECT_GT(checked, 100);
}

}  // namespace
}  // namespace photonlane
