#pragma once

#include <memory>
#include <vector>

#include "photonlane/io/sphere_file.hpp"

namespace photonlane::io {

/// The spheres of some files, one behind the other.
std::unique_ptr<SphereSource> open_spheres(const SphereFiles& files);

/// Names that fit patterns, in order; a name without a pattern stays as it is. Throws Error (file)
/// where nothing fits.
std::vector<std::string> fitting_files(const std::vector<std::string>& patterns);

}  // namespace photonlane::io
