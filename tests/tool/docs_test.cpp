// Every block of the README and the guide, as it is printed: scenes are read, commands run, C++ is
// compiled and run.

#include "tool/docs_blocks.hpp"

#include <gmock/gmock.h>

#include <sstream>

#include "photonlane/io.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using test::Outcome;
using ::testing::StartsWith;

struct Block {
  std::string where;
  std::string kind;  ///< yaml, cpp or nothing
  std::vector<std::string> lines;
};

std::vector<Block> blocks_of(const std::string& file) {
  std::ifstream stream(std::string(PHOTONLANE_SOURCE) + "/" + file);
  std::vector<Block> blocks;
  bool inside = false;
  int number = 0;
  for (std::string line; std::getline(stream, line);) {
    ++number;
    if (line.starts_with("```")) {
      inside = !inside;
      if (inside) blocks.push_back({file + ":" + std::to_string(number), line.substr(3), {}});
    } else if (inside) {
      blocks.back().lines.push_back(line);
    }
  }
  return blocks;
}

class Documentation : public test::ToolRun, public ::testing::WithParamInterface<const char*> {
 protected:
  void SetUp() override {
    std::filesystem::create_directory_symlink(PHOTONLANE_SOURCE "/demo", folder.path() + "/demo");
  }

  void keep_scene(const Block& block) {
    ASSERT_FALSE(block.lines.empty());
    const std::string& first = block.lines.front();
    ASSERT_TRUE(first.starts_with("# ") && first.ends_with(".yaml")) << block.where << ": no name";
    std::string text;
    for (const std::string& line : block.lines) text += line + "\n";
    const std::string path = folder.write(first.substr(2), text);
    if (text.find("\nmoves:") != text.npos) return;  // a walk's, read where it is played
    const io::SceneFile file = io::read_scene(path);
    EXPECT_TRUE(file.notes.empty()) << block.where << ": " << file.notes.front().text;
    if (file.scene.plane) return;
    Budget small = file.budget;
    small.frame = {16, 10, 1};
    render(compile(file.scene), file.camera, small);
  }

  void run_commands(const Block& block) {
    for (std::size_t i = 0; i < block.lines.size(); ++i) {
      std::string command = block.lines[i];
      while (command.ends_with("\\")) {
        command.pop_back();
        command += block.lines.at(++i);
      }
      const bool prompted = command.starts_with("$ ");
      if (prompted) command = command.substr(2);
      if (!command.starts_with("photonlane ")) {
        // What installs packages is run where that is meant.
        EXPECT_TRUE(command.empty() || command.starts_with("scripts/"))
            << block.where << ": " << command;
        continue;
      }
      const Outcome outcome = tool(command.substr(command.find(' ') + 1));
      if (prompted) {
        EXPECT_EQ(outcome.errors, block.lines.at(++i) + "\n") << block.where;
        EXPECT_EQ(outcome.code, 2) << block.where;
        continue;
      }
      EXPECT_EQ(outcome.code, 0) << block.where << ": " << command << "\n"
                                 << outcome.output << outcome.errors;
    }
  }
};

TEST_P(Documentation, BlocksRunAsTheyArePrinted) {
  const std::vector<Block> blocks = blocks_of(GetParam());
  EXPECT_GT(blocks.size(), 2u);
  for (const Block& block : blocks) {
    if (block.kind == "yaml") {
      keep_scene(block);
    } else if (block.kind.empty()) {
      run_commands(block);
    } else {
      EXPECT_EQ(block.kind, "cpp") << block.where;
    }
  }
}

INSTANTIATE_TEST_SUITE_P(All, Documentation, ::testing::Values("README.md", "docs/guide.md"),
                         [](const auto& one) {
                           return std::string(one.param) == "README.md" ? "Readme" : "Guide";
                         });

TEST(DocumentationInCpp, BlocksRunAsTheyArePrinted) {
  const test::TemporaryFolder folder;
  const auto before = std::filesystem::current_path();
  std::filesystem::current_path(folder.path());
  std::size_t blocks = 0;
  for (const test::DocBlock& block : test::doc_blocks()) {
    ++blocks;
    EXPECT_EQ(block.main(), 0) << block.where;
  }
  std::filesystem::current_path(before);
  EXPECT_EQ(blocks, 11u);
}

}  // namespace
}  // namespace photonlane
