#pragma once

#include <string>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

namespace photonlane::fuzz {

/// A scene with a file as a plate's color and depth, and what else it can be: read, and where it is
/// small rendered.
inline void try_plate(const std::string& path) {
  const std::string more = io::is_exr(path)
                               ? ", mask: {file: '" + path + "', channel: G}, normals: {file: '" +
                                     path + "', channels: [R, G, B], of_view: true}"
                               : std::string();
  const std::string text =
      "camera: &eye {eye: [0, 0, 1], distortion_k1: -0.05}\nroom:\n  light: {sun: {}}\n  solids:\n"
      "    - plate: {color: '" +
      path + "', depth: {file: '" + path + "', channel: R, kind: buffer}, camera: *eye" + more +
      "}\n"
      "    - field: {place: {at: [2, 0, 1], of: {sphere: {radius: 0.5}}}}\n"
      "budget: {frame: {width: 8, height: 6}}\n";
  const io::SceneFile file = io::parse_scene(text, "plate.yaml");
  const auto& plate = dynamic_cast<const Plate&>(*file.scene.room().parts.front());
  if (plate.depth.size.width > 256 || plate.depth.size.height > 256) return;
  render(compile(file.scene), file.camera, file.budget, {.threads = 1});
}

}  // namespace photonlane::fuzz
