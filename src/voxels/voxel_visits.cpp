#include "photonlane/voxels/voxel_visits.hpp"

#include "voxels/voxel_solid.hpp"

namespace photonlane {

std::vector<VoxelVisit> visit_voxels(const Voxels& part, const Vec3d& from, const Vec3d& way,
                                     double length) {
  // Materials do not matter here.
  Voxels plain = part;
  plain.materials.assign(65536, -1);
  plain.material = -1;
  plain.copies = {1, 1, 1};
  const auto solid = plain.compile({});
  return static_cast<const VoxelSolid&>(*solid).visits(from, way, length);
}

}  // namespace photonlane
