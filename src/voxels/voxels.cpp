#include "photonlane/voxels/voxels.hpp"

#include <fmt/format.h>

#include <cmath>

#include "field/warp.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/voxels/voxel_editor.hpp"
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

Voxels land_as_grid(const Voxels& part, const LandView& view) {
  Voxels own = part;
  own.land = nullptr;
  own.grid = view.grid;
  if (own.grid == nullptr) {
    own.grid = VoxelEditor({1, 1, 1}, part.land->source().palette()).grid();
  }
  const Vec3d low(static_cast<double>(view.low[0]), static_cast<double>(view.low[1]),
                  static_cast<double>(view.low[2]));
  own.at += turn_matrix(part.turn) * (part.cell * low);
  return own;
}

Vec3d cells_of(const Voxels& part, const Vec3d& place) {
  return turn_matrix(part.turn).transpose() * (place - part.at) / part.cell;
}

Voxels Voxels::seen_from(const Vec3d& eye, bool wait) const {
  return land == nullptr ? *this : land_as_grid(*this, land->around(cells_of(*this, eye), wait));
}

void Voxels::use_materials(const std::function<void(int)>& use) const {
  if (grid == nullptr && land == nullptr) return;
  const VoxelPalette palette = land != nullptr ? land->source().palette() : grid->palette();
  if (palette.direct) return use(material);
  for (const VoxelKind& kind : palette.kinds) {
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
  if (grid == nullptr && land == nullptr) throw Error(ErrorKind::input, "voxels without a grid");
  if (grid != nullptr && land != nullptr) {
    throw Error(ErrorKind::input, "voxels of a grid and of a land, expected one of them");
  }
  validate_knobs(voxels_knobs(), *this);
  for (const double count : copies) {
    if (count != std::floor(count)) {
      throw Error(ErrorKind::input, fmt::format("{} copies, expected a whole number", count));
    }
  }
  if (land != nullptr && copies != Vec3d(1, 1, 1)) {
    throw Error(ErrorKind::input, "copies of a land without end");
  }
  check_material(material, context.materials);
  for (const int one : materials) check_material(one, context.materials);
  if (land == nullptr) return std::make_shared<const VoxelSolid>(*this, context);
  return std::make_shared<const VoxelSolid>(*this, context, LandView{});
}

}  // namespace photonlane
