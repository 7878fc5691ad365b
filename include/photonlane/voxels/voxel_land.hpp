#pragma once

/// Voxels without end, made around an eye: near it as they are, farther off in coarser cubes.
///
///   auto land = std::make_shared<VoxelLand>(std::make_shared<GardenLand>());
///   scene.room().add(Voxels(land));
///   const Frame frame = render(compile(scene), camera, budget);  // shows what is made by then

#include <array>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>

#include "photonlane/base/knob.hpp"
#include "photonlane/base/vector.hpp"
#include "photonlane/voxels/voxel_grid.hpp"

namespace photonlane {

/// A cell of a land: cell (0, 0, 0) is at its origin.
using LandCell = std::array<std::int64_t, 3>;

/// A cube of cells, from `low` on.
struct LandCube {
  LandCell low{0, 0, 0};
  std::int64_t side = 1;
};

/// What a land is. Asked from several threads at once, and always gives the same answers.
class LandSource {
 public:
  virtual ~LandSource() = default;
  virtual VoxelPalette palette() const = 0;
  /// The value of all that read() would give for a cube of cells in cubes of `step` cells a side,
  /// where that is known without reading them.
  virtual std::optional<std::uint32_t> known(const LandCube& cube, std::int64_t step) const;
  /// Values of 16 x 16 x 16 cubes of `step` cells a side, x fastest, then y, from cell `low` on. A
  /// step is 1, 4, 16 and so on. What stands for a cube of many cells is for the source to say.
  virtual void read(const LandCell& low, std::int64_t step, std::uint32_t* values) const = 0;
};

struct LandOptions {
  double reach = 4096;                  ///< cells around the eye that are made
  double full = 384;                    ///< cells around it that are made as they are
  std::int64_t memory = 1'000'000'000;  ///< bytes that made cubes may take
  int threads = 0;                      ///< that make them; 0: one less than the machine has
};
std::span<const Knob<LandOptions>> land_options_knobs();

/// What of a land there is by now.
struct LandView {
  std::shared_ptr<const VoxelGrid> grid;
  LandCell low{0, 0, 0};      ///< the land's cell that is the grid's lowest
  std::uint64_t version = 0;  ///< another one where something is different
  std::size_t wanted = 0;     ///< cubes of 64, 256, 1024 ... cells a side, in cells of 1, 4, 16 ...
  std::size_t missing = 0;    ///< of those, the ones that are still to be made
  std::size_t left_out = 0;   ///< of those, the ones that memory does not hold
  std::size_t bytes = 0;      ///< that the others take
};

/// A land in the making. Threads of its own make it, from coarse to fine and from near to far, for
/// the eye that was told last; what is made stays as long as memory holds it. The same eye gives
/// the same voxels in the end, in whatever order they were made and wherever it was before. Can be
/// asked from several threads at once.
class VoxelLand {
 public:
  /// Throws Error (input) for values out of range and palettes that cannot be.
  explicit VoxelLand(std::shared_ptr<const LandSource> source, const LandOptions& options = {});
  ~VoxelLand();
  VoxelLand(const VoxelLand&) = delete;
  VoxelLand& operator=(const VoxelLand&) = delete;

  const LandSource& source() const;
  const LandOptions& options() const;

  /// What there is around an eye, in cells; the rest is begun. With `wait`, when all of it is made,
  /// as far as memory holds it; while another call waits for another eye, the other is had first,
  /// and without `wait` what there is around that one. `go_on` is asked several times a second
  /// while it waits. Throws what a source threw, Error (input) for values that the palette does not
  /// have and for eyes beyond 1e12 cells, Error (memory) for more than a million pieces, Error
  /// (cancelled) where `go_on` says false.
  LandView around(const Vec3d& eye, bool wait, const std::function<bool()>& go_on = {});

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

}  // namespace photonlane
