#pragma once

#include <cstdint>
#include <vector>

#include "photonlane/spheres/sphere_set.hpp"

namespace photonlane {

/// Space shared out among parts of about as many spheres each: cut in two again and again where a
/// share of the samples lies on either side.
class SphereCells {
 public:
  struct Cell {
    Vec3d low, high;
  };

  SphereCells(std::vector<Vec3d> samples, std::size_t cells, const Vec3d& low, const Vec3d& high);

  std::size_t size() const { return cells_.size(); }
  const Cell& operator[](std::size_t cell) const { return cells_[cell]; }
  /// Which cell each of a run's centers is in.
  void find(const SphereRun& run, std::uint32_t* cells) const;

 private:
  struct Cut {
    double at = 0;
    std::int32_t axis = 0;
    std::int32_t cell = -1;           ///< which, where this is one
    std::uint32_t low = 0, high = 0;  ///< cuts on either side; of a cell, itself
  };
  std::uint32_t cut(Vec3d* first, Vec3d* last, std::size_t cells, const Vec3d& low,
                    const Vec3d& high);

  std::vector<Cut> cuts_;
  std::vector<Cell> cells_;
};

}  // namespace photonlane
