#pragma once

///   io::write_volume("urn.volume", sample_volume(made));
///   const Volume again = io::read_volume("urn.volume");

#include <string>

#include "photonlane/field/source.hpp"

namespace photonlane::io {

/// A volume's file: a line "photonlane volume 1", a line of JSON that says its size, box and how
/// its numbers are kept, and the numbers, little-endian, x fastest, then y.
void write_volume(const std::string& path, const Volume& volume);

/// Throws Error (file) for what cannot be read, and where numbers are missing or left over.
Volume read_volume(const std::string& path);

/// A picture's brightness, 0 black to 1 white, as heights, its upper edge at high y. Throws as
/// read_texture().
HeightMap read_heights(const std::string& path);

}  // namespace photonlane::io
