// Grids that stand side by side, several times.

#include <cmath>
#include <limits>

#include "voxels/voxel_solid.hpp"

namespace photonlane {

/// The copies a lane comes through one after the other, each as if it stood alone.
void VoxelSolid::meet_copies(bool any, VoxelLanes& lanes) const {
  const VoxelBodies bodies{bodies_.empty() ? nullptr : bodies_.data()};
  VoxelLanes one;
  one.count = 1;
  one.single = lanes.single;
  one.detail = lanes.detail;
  for (std::size_t i = 0; i < lanes.count; ++i) {
    lanes.met[i] = false;
    lanes.steps[i] = 0;
    // Copies lie in rows of cells of their own.
    double in = lanes.start[i];
    double out = lanes.limit[i];
    bool misses = false;
    for (int axis = 0; axis < 3 && !misses; ++axis) {
      const auto a = static_cast<std::size_t>(axis);
      const double from = lanes.from[axis][i];
      const double way = lanes.way[axis][i];
      const double end = static_cast<double>(tree_.size[a]) * copies_[a];
      if (std::abs(way) < slowest_way) {
        misses = from < 0 || from > end;
        continue;
      }
      const double near = ((way < 0 ? end : 0) - from) / way;
      const double far = ((way < 0 ? 0 : end) - from) / way;
      in = std::max(in, near);
      out = std::min(out, far);
    }
    if (misses || !(in <= out)) continue;
    std::int64_t copy[3];
    for (int axis = 0; axis < 3; ++axis) {
      const auto a = static_cast<std::size_t>(axis);
      const double place = (lanes.from[axis][i] + in * lanes.way[axis][i]) / tree_.size[a];
      copy[axis] =
          std::clamp<std::int64_t>(static_cast<std::int64_t>(std::floor(place)), 0, copies_[a] - 1);
    }
    double begin = in;
    for (;;) {
      // Where the lane leaves this copy.
      double end = std::numeric_limits<double>::infinity();
      int across = 0;
      for (int axis = 0; axis < 3; ++axis) {
        const double way = lanes.way[axis][i];
        if (std::abs(way) < slowest_way) continue;
        const double wall = static_cast<double>((copy[axis] + (way < 0 ? 0 : 1)) *
                                                tree_.size[static_cast<std::size_t>(axis)]);
        const double at = (wall - lanes.from[axis][i]) / way;
        if (at < end) {
          end = at;
          across = axis;
        }
      }
      for (int axis = 0; axis < 3; ++axis) {
        one.from[axis][0] =
            lanes.from[axis][i] -
            static_cast<double>(copy[axis] * tree_.size[static_cast<std::size_t>(axis)]);
        one.way[axis][0] = lanes.way[axis][i];
      }
      // What lies on the wall between two copies is met from either: start a little before it.
      one.start[0] = begin == in ? lanes.start[i] : std::max(lanes.start[i], begin * (1 - 1e-12));
      one.limit[0] = lanes.limit[i];
      meet_voxels(tree_, within_, bodies, any, one);
      lanes.steps[i] += one.steps[0];
      if (one.met[0]) {
        lanes.met[i] = true;
        lanes.t[i] = one.t[0];
        lanes.axis[i] = one.axis[0];
        lanes.leaving[i] = one.leaving[0];
        lanes.cell[i] = one.cell[0];
        lanes.level[i] = one.level[0];
        lanes.value[i] = one.value[0];
        lanes.mean[i] = one.mean[0];
        break;
      }
      if (!(end < lanes.limit[i])) break;
      begin = std::max(begin, end);
      copy[across] += lanes.way[across][i] < 0 ? -1 : 1;
      if (copy[across] < 0 || copy[across] >= copies_[static_cast<std::size_t>(across)]) break;
    }
  }
}

NearestVoxel VoxelSolid::nearest(const Vec3d& place, const std::vector<bool>& counts) const {
  if (copies_ == VoxelCell{1, 1, 1}) return nearest_voxel(tree_, place, counts);
  // What is nearest is of this copy or of one beside it: all have the same in the same place.
  NearestVoxel best;
  VoxelCell own;
  for (std::size_t axis = 0; axis < 3; ++axis) {
    const double row = std::floor(place[static_cast<int>(axis)] / tree_.size[axis]);
    own[axis] =
        static_cast<std::int32_t>(std::clamp(row, 0.0, static_cast<double>(copies_[axis] - 1)));
  }
  for (int z = -1; z <= 1; ++z) {
    for (int y = -1; y <= 1; ++y) {
      for (int x = -1; x <= 1; ++x) {
        const VoxelCell copy{own[0] + x, own[1] + y, own[2] + z};
        Vec3d corner;
        bool there = true;
        for (std::size_t axis = 0; axis < 3; ++axis) {
          there = there && copy[axis] >= 0 && copy[axis] < copies_[axis];
          corner[static_cast<int>(axis)] = static_cast<double>(copy[axis]) * tree_.size[axis];
        }
        if (!there) continue;
        NearestVoxel one = nearest_voxel(tree_, place - corner, counts);
        if (!one.found) continue;
        // Deep inside of one copy counts before what lies outside of others.
        if (best.found && (one.distance >= best.distance)) continue;
        one.place += corner;
        best = one;
      }
    }
  }
  return best;
}

}  // namespace photonlane
