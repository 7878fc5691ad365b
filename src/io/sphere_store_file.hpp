#pragma once

#include <cstdint>
#include <string>

namespace photonlane::io {

/// By which a .spheres file is known again: that of its head, which has those of all else. Throws
/// Error (file) as map_spheres().
std::uint64_t stored_spheres_checksum(const std::string& path);

}  // namespace photonlane::io
