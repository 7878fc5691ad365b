#pragma once

#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/wait.h>

#include <algorithm>
#include <set>
#include <string>

#include "support/files.hpp"

namespace photonlane::test {

struct Outcome {
  int code = -1;
  std::string output;  ///< standard output
  std::string errors;  ///< standard error
};

inline Outcome run(const std::string& command, const TemporaryFolder& folder) {
  const std::string full = fmt::format("cd '{0}' && {1} > .out 2> .err", folder.path(), command);
  const int status = std::system(full.c_str());
  Outcome outcome{WIFEXITED(status) ? WEXITSTATUS(status) : -1, folder.read(".out"),
                  folder.read(".err")};
  std::filesystem::remove(folder.path() + "/.out");
  std::filesystem::remove(folder.path() + "/.err");
  return outcome;
}

/// A scene file: mirror balls on a floor, under a sun and a lamp.
inline std::string yard_text(const std::string& title, const std::string& budget) {
  return "title: " + title +
         "\n"
         "# A mirror ball on a floor.\n"
         "camera: {eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}\n"
         "materials:\n"
         "  mirror: {base: [0.8, 0.8, 0.8], specular: 0.7}\n"
         "  floor: {base: [0.4, 0.5, 0.4]}\n"
         "room:\n"
         "  sky: {}\n"
         "  light: {sun: {heading: 200}, lamps: [{place: [1, -1, 2.5]}]}\n"
         "  solids:\n"
         "    - field: {plane: {}, material: floor}\n"
         "    - field: {place: {at: [0, 0, 0.5], of: {sphere: {radius: 0.5}}}, material: mirror}\n"
         "    - field: {place: {at: [1, 0.3, 0.4], of: {sphere: {radius: 0.4}}}, material: "
         "mirror}\n"
         "budget:\n" +
         budget;
}

/// Runs the built tool in a folder of its own.
class ToolRun : public ::testing::Test {
 protected:
  Outcome tool(const std::string& arguments) {
    return run(fmt::format("'{}' {}", PHOTONLANE_TOOL, arguments), folder);
  }

  /// Runs what must be refused: exit 2, one line on standard error, nothing written.
  std::string refused(const std::string& arguments) {
    const std::set<std::string> before = folder.names();
    const Outcome outcome = tool(arguments);
    EXPECT_EQ(outcome.code, 2) << arguments << "\n" << outcome.output << outcome.errors;
    EXPECT_EQ(outcome.output, "") << arguments;
    EXPECT_EQ(std::count(outcome.errors.begin(), outcome.errors.end(), '\n'), 1) << outcome.errors;
    EXPECT_EQ(folder.names(), before) << arguments;
    return outcome.errors.substr(0, outcome.errors.find('\n'));
  }

  TemporaryFolder folder;
};

}  // namespace photonlane::test
