#pragma once

#include <string>
#include <vector>

namespace photonlane::test {

/// A C++ block of the documentation, compiled as it is printed.
struct DocBlock {
  std::string where;  ///< file:line
  int (*main)();
};
std::vector<DocBlock> doc_blocks();

}  // namespace photonlane::test
