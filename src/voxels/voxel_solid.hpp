#pragma once

#include <cstdint>
#include <vector>

#include "photonlane/voxels/voxels.hpp"
#include "voxels/voxel_lanes.hpp"
#include "voxels/voxel_nearest.hpp"

namespace photonlane {

/// A land as far as it is there, as a part with a grid; without voxels where there is none yet.
Voxels land_as_grid(const Voxels& part, const LandView& view);
/// A place in cells of a part's grid or land.
Vec3d cells_of(const Voxels& part, const Vec3d& place);

/// A grid compiled for tracing: where it stands, and what its values are made of.
class VoxelSolid final : public Solid {
 public:
  VoxelSolid(const Voxels& part, const SolidContext& context);
  /// Of a land, as far as it is there.
  VoxelSolid(const Voxels& part, const SolidContext& context, const LandView& view);

  HitBatch<float> nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const override;
  HitBatch<double> nearest_hit(const LaneBatch<double>& lanes, const Budget& budget) const override;
  std::uint64_t hide(const LaneBatch<float>& lanes, const Budget& budget,
                     bool* hidden) const override;
  bool knows_distances() const override { return true; }
  void measure(const DistanceBatch& batch) const override;
  std::optional<ClosestSurface> closest(const Vec3d& place) const override;
  std::vector<Emitter> emitters(const std::vector<bool>& emitting) const override;
  bool surrounds_eye() const override { return surroundings_ != nullptr; }
  std::shared_ptr<const Solid> seen_from(const Vec3d& eye, bool wait,
                                         const std::function<bool()>& go_on) const override;
  std::size_t missing() const override;
  std::string_view knob_group() const override { return "voxels"; }
  Bounds bounds() const override;
  std::string summary() const override;
  std::size_t memory_bytes() const override;

  /// What one lane looks into.
  std::vector<VoxelVisit> visits(const Vec3d& from, const Vec3d& way, double length) const;

  /// What would look wrong or is of no use, a line each.
  std::vector<std::string> faults() const;

 private:
  template <class Number>
  HitBatch<Number> trace(const LaneBatch<Number>& lanes, const Budget& budget) const;
  template <class Number>
  void take_lanes(const LaneBatch<Number>& lanes, const bool* left_out, VoxelLanes& to) const;
  void meet(bool any, VoxelLanes& lanes) const;
  void meet_copies(bool any, VoxelLanes& lanes) const;

  Vec3d to_cells(const Vec3d& place) const { return back_ * (place - at_) / cell_; }
  Vec3d to_room(const Vec3d& place) const { return turn_ * (place * cell_) + at_; }
  Vec3d face_normal(const VoxelLanes& lanes, std::size_t i) const;
  Vec3d smooth_normal(const VoxelLanes& lanes, std::size_t i, const Vec3d& face) const;
  std::uint32_t material_of(std::uint32_t value) const;
  std::uint32_t color_of(std::uint32_t value) const;
  /// Among all copies; in cells.
  NearestVoxel nearest(const Vec3d& place, const std::vector<bool>& counts) const;

  std::shared_ptr<const VoxelGrid> grid_;
  const VoxelTree& tree_;
  VoxelBox within_;  ///< of what is set
  double cell_;
  Vec3d at_;
  Mat3d turn_, back_;
  bool turned_ = false;
  VoxelCell copies_;
  bool smooth_;
  std::uint32_t material_;
  std::vector<std::uint32_t> materials_;  ///< by value; empty: all are of the one
  std::vector<std::uint32_t> bodies_;     ///< by value, where some bend light; else empty
  std::vector<bool> opaque_;              ///< the same
  bool all_bend_ = false;                 ///< of a grid whose values are colors
  /// Of a land: what to make the next one of, and what this one is.
  struct Surroundings {
    Voxels part;
    SolidContext context;
    LandView view;
  };
  std::shared_ptr<const Surroundings> surroundings_;
};

}  // namespace photonlane
