#include "io/solid_kinds.hpp"

#include <fmt/format.h>

#include "io/plate_node.hpp"
#include "io/sphere_node.hpp"
#include "io/voxel_node.hpp"

namespace photonlane::io {

std::span<const SolidKind> solid_kinds() {
  static const SolidKind table[] = {
      {"spheres", "balls, each met exactly", read_spheres, spheres_text},
      {"plate", "a picture with depth that was made elsewhere", read_plate, plate_text},
      {"voxels", "small cubes in a grid, kept in a tree", read_voxels, voxels_text},
  };
  return table;
}

std::vector<std::string_view> solid_words() {
  std::vector<std::string_view> words{"cells", "field"};
  for (const SolidKind& kind : solid_kinds()) words.push_back(kind.name);
  return words;
}

std::string solid_text(const SolidPart& part, const Scene& scene, int indent) {
  for (const SolidKind& kind : solid_kinds()) {
    if (kind.name != part.kind()) continue;
    return fmt::format("{:{}}- {}:\n", "", indent, kind.name) + kind.write(part, scene, indent + 4);
  }
  throw Error(ErrorKind::usage, fmt::format("a solid '{}' has no form in a file", part.kind()));
}

}  // namespace photonlane::io
