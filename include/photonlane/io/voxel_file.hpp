#pragma once

/// Grids of voxels in files of our own, and what voxels are made from.
///
///   io::write_voxels("garden.voxels", *VoxelGrid::make(TerraceSource({.side = 1024})));
///   Voxels garden(io::map_voxels("garden.voxels"));

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "photonlane/io/sphere_file.hpp"
#include "photonlane/voxels/voxel_grid.hpp"

namespace photonlane::io {

/// Writes a grid as it lies in memory, with checksums, whole or not at all. Throws Error (file),
/// and (cancelled) where `progress`, told how much is done, returns false.
void write_voxels(const std::string& path, const VoxelGrid& grid,
                  const std::function<bool(double)>& progress = {});

/// A grid from such a file, which is mapped into memory and read as voxels are asked for; it must
/// not change meanwhile. Whatever the file says, nothing outside of it is looked at. With `whole`
/// all of it is held against its checksums first. Throws Error (file).
std::shared_ptr<const VoxelGrid> map_voxels(const std::string& path, bool whole = true);

/// Numbers of a box of cells, x fastest, then y, then z, and nothing else in the file.
struct RawVoxels {
  std::string path;
  VoxelCell size{0, 0, 0};
  int bytes = 1;             ///< of a number: 1 or 2, little-endian
  std::uint64_t offset = 0;  ///< bytes before the first
  /// What numbers above 0 are; empty: number n is a gray of its own, up to 255, and kinds without
  /// color beyond.
  std::vector<VoxelKind> kinds;
};
/// Throws Error (file) where the file is too short, and (input) for numbers without a kind.
std::unique_ptr<VoxelSource> open_raw_voxels(const RawVoxels& raw);

/// Pictures of layers, the lowest first. Pixels are cells of their color, x to the right and y up;
/// those with less than half of alpha, and black ones of pictures without alpha, are empty.
struct VoxelSlices {
  std::vector<std::string> paths;  ///< patterns with * and ? stand for files in the order of names
};
std::unique_ptr<VoxelSource> open_voxel_slices(const VoxelSlices& slices);

/// Heights by a picture's brightness, x to the right and y up, and what lies under the ground.
struct VoxelHeights {
  struct Layer {
    VoxelKind kind;
    std::int64_t depth = 0;  ///< cells; 0: all the way down
  };
  std::string path;
  std::int64_t height = 256;  ///< cells, of a brightness of 1
  std::vector<Layer> layers;  ///< from the ground down; the last goes on to the bottom
};
std::unique_ptr<VoxelSource> open_voxel_heights(const VoxelHeights& heights);

/// Points as voxels: the cell each lies in, with its color, or the kind that its number of a
/// material says. Of several in a cell the last one of the files counts. Radii do not matter.
class VoxelPoints final : public VoxelSource {
 public:
  /// Throws Error (file) and (input) as files of spheres do, and (input) where the points lie
  /// farther apart than a grid reaches.
  VoxelPoints(const SphereFiles& files, double cell);

  const Vec3d& corner() const { return corner_; }  ///< meters: the grid's lowest

  VoxelCell size() const override { return size_; }
  VoxelPalette palette() const override { return palette_; }
  std::optional<std::uint32_t> known(const VoxelBox& box) const override;
  void read(const VoxelCell& low, std::uint32_t* values) const override;

 private:
  struct Point {
    std::uint64_t block;  ///< its number: bits of x, y and z in turn, so that cubes lie together
    std::uint32_t cell;   ///< of the block
    std::uint32_t value;
  };
  static std::uint64_t block_of(const VoxelCell& cell);
  /// The first point of a block of that number or a higher one.
  std::vector<Point>::const_iterator from_block(std::uint64_t number) const;

  Vec3d corner_{0, 0, 0};
  VoxelCell size_{0, 0, 0};
  VoxelPalette palette_;
  std::vector<Point> points_;  ///< by block
};

/// A grid in words: cells, voxels, bytes.
std::string voxel_text(const VoxelGrid& grid);
std::string voxel_json(const VoxelGrid& grid);

}  // namespace photonlane::io
