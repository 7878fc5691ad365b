#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <vector>

namespace photonlane::textbook {

struct VoxelRay {
  float x, y, z, way_x, way_y, way_z, limit;
};

/// All cells in an array, a byte each, and the walk from cell to cell that is written first.
class DenseVoxels {
 public:
  explicit DenseVoxels(int side)
      : side_(side),
        cells_(static_cast<std::size_t>(side) * static_cast<std::size_t>(side) *
               static_cast<std::size_t>(side)) {}
  std::uint8_t& at(int x, int y, int z) {
    return cells_[(static_cast<std::size_t>(z) * static_cast<std::size_t>(side_) +
                   static_cast<std::size_t>(y)) *
                      static_cast<std::size_t>(side_) +
                  static_cast<std::size_t>(x)];
  }
  /// The value of the first cell that is set, 0: none; and where it is met.
  std::uint8_t first(const VoxelRay& ray, float& t) const;
  std::size_t bytes() const { return cells_.size(); }

 private:
  int side_;
  std::vector<std::uint8_t> cells_;
};

/// Eight children with pointers, from the root down for every cell.
class VoxelOctree {
 public:
  explicit VoxelOctree(int side);
  ~VoxelOctree();
  void set(int x, int y, int z, std::uint8_t value);
  std::uint8_t first(const VoxelRay& ray, float& t) const;
  std::size_t bytes() const;

 private:
  struct Node;
  int side_;
  std::unique_ptr<Node> root_;
  std::size_t nodes_ = 1;
};

}  // namespace photonlane::textbook
