#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/digest.hpp"
#include "photonlane/frame/frame.hpp"

namespace photonlane::io {

/// References in the folder of a run, each in a file named by a digest of what it is of, so that
/// later runs take them again.
class KeptReferences {
 public:
  explicit KeptReferences(std::string folder) : folder_(std::move(folder)) {}

  /// Nothing where there is none, or one that does not read back.
  std::optional<Frame> read(const Digest& what) const;
  void write(const Digest& what, Frame& frame) const;
  /// Removes those of other runs.
  void remove_all_but(const std::vector<Digest>& own) const;

 private:
  static std::string name_of(const Digest& what);

  std::string folder_;
};

}  // namespace photonlane::io
