#include "photonlane/voxels/voxels.hpp"

#include <fmt/format.h>

#include <cmath>

#include "photonlane/base/error.hpp"
#include "voxels/voxel_solid.hpp"

namespace photonlane {
namespace {

constexpr double most_copies = 65536;

void check_material(int material, std::size_t materials) {
  if (material < -1 || material >= static_cast<std::ptrdiff_t>(materials)) {
    throw Error(ErrorKind::input,
                fmt::format("voxels of material {}, of which there are {}", material, materials));
  }
}

}  // namespace

std::span<const Knob<Voxels>> voxels_knobs() {
  static const Knob<Voxels> table[] = {
      knob<&Voxels::cell>("cell", "meters", {0, 1000, true}, "side of a voxel"),
      knob<&Voxels::at>("place", "meters", {-1e6, 1e6}, "where the grid's lowest corner is"),
      knob<&Voxels::turn>("turn", "degrees", {-36000, 36000},
                          "how far it is turned about that corner: about x, then y, then z",
                          degrees(1)),
      knob<&Voxels::copies>("copies", "", {1, most_copies},
                            "how often it stands side by side, along each of its axes"),
      knob<&Voxels::normals>("normals", "", {},
                             "which way surfaces face: as the face of the voxel, or smooth, away "
                             "from what is set around it"),
  };
  return table;
}

void Voxels::use_materials(const std::function<void(int)>& use) const {
  if (grid == nullptr) return;
  if (grid->palette().direct) return use(material);
  for (const VoxelKind& kind : grid->palette().kinds) {
    if (kind.material < 0) {
      use(material);
    } else if (materials.empty()) {
      use(kind.material);
    } else if (static_cast<std::size_t>(kind.material) < materials.size()) {
      use(materials[static_cast<std::size_t>(kind.material)]);
    }
  }
}

std::shared_ptr<const Solid> Voxels::compile(const SolidContext& context) const {
  if (grid == nullptr) throw Error(ErrorKind::input, "voxels without a grid");
  validate_knobs(voxels_knobs(), *this);
  for (const double count : copies) {
    if (count != std::floor(count)) {
      throw Error(ErrorKind::input, fmt::format("{} copies, expected a whole number", count));
    }
  }
  check_material(material, context.materials);
  for (const int one : materials) check_material(one, context.materials);
  return std::make_shared<const VoxelSolid>(*this, context);
}

}  // namespace photonlane
