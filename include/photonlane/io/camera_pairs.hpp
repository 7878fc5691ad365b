#pragma once

/// Pixels and the places they show, as a file, and the camera that shows them so:
///
///   const std::vector<PlateMark> pairs = io::read_pairs("court.csv");
///   const CameraMatch match = match_camera(pairs, {1920, 1080});
///   fmt::print("{}", io::match_text(match, pairs));

#include <span>
#include <string>
#include <vector>

#include "photonlane/plates/camera_match.hpp"

namespace photonlane::io {

/// A pair a line: the pixel's x and y, and x, y and z of the place in meters, apart by commas or
/// spaces. Empty lines, lines that begin with '#', and a first line of names are left out. Throws
/// Error (file) where the file cannot be read, Error (input) with line and column for anything
/// else.
std::vector<PlateMark> read_pairs(const std::string& path);

/// The camera as a scene file has it, how sure it is, and how far each pair is off.
std::string match_text(const CameraMatch& match, std::span<const PlateMark> pairs);
std::string match_json(const CameraMatch& match, std::span<const PlateMark> pairs);

}  // namespace photonlane::io
