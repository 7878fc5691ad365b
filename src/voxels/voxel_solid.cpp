#include "voxels/voxel_solid.hpp"

#include <fmt/format.h>

#include <cmath>
#include <limits>

#include "base/stage_clock.hpp"
#include "field/warp.hpp"
#include "lane/hits.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane {
namespace {

/// The distance, in meters, of a grid without voxels: no place of a scene is farther apart.
constexpr double farthest = 1e7;

}  // namespace

VoxelSolid::VoxelSolid(const Voxels& part, const SolidContext& context)
    : grid_(part.grid),
      tree_(grid_->tree()),
      within_(grid_->bounds()),
      cell_(part.cell),
      at_(part.at),
      turn_(turn_matrix(part.turn)),
      back_(turn_.transpose()),
      turned_(part.turn != Vec3d(0, 0, 0)),
      copies_{static_cast<std::int32_t>(part.copies.x()),
              static_cast<std::int32_t>(part.copies.y()),
              static_cast<std::int32_t>(part.copies.z())},
      smooth_(part.normals == VoxelNormals::smooth),
      material_(part.material >= 0 ? static_cast<std::uint32_t>(part.material) : context.plain) {
  const auto bends = [&](std::uint32_t material) {
    return material < context.bends.size() && context.bends[material];
  };
  bool some_bend = bends(material_);
  const VoxelPalette& palette = grid_->palette();
  if (!palette.direct) {
    const std::size_t known = part.materials.empty() ? context.materials : part.materials.size();
    materials_.assign(palette.kinds.size() + 1, material_);
    for (std::size_t k = 0; k < palette.kinds.size(); ++k) {
      const int number = palette.kinds[k].material;
      if (number < 0) continue;
      if (static_cast<std::size_t>(number) >= known) {
        throw Error(
            ErrorKind::input,
            fmt::format("voxels have material {}, of which there are {}; `materials` says which "
                        "of the scene's those numbers are",
                        number, known));
      }
      const int own =
          part.materials.empty() ? number : part.materials[static_cast<std::size_t>(number)];
      if (own >= 0) materials_[k + 1] = static_cast<std::uint32_t>(own);
      some_bend = some_bend || bends(materials_[k + 1]);
    }
  }
  if (!some_bend) return;
  if (palette.direct) {
    all_bend_ = true;
    return;
  }
  const std::size_t values = materials_.size();
  bodies_.assign(values, 0);
  opaque_.assign(values, true);
  for (std::size_t value = 0; value < values; ++value) {
    if (!bends(materials_[value])) continue;
    bodies_[value] = materials_[value] + 1;
    opaque_[value] = false;
  }
}

VoxelSolid::VoxelSolid(const Voxels& part, const SolidContext& context, const LandView& view)
    : VoxelSolid(land_as_grid(part, view), context) {
  surroundings_ = std::make_shared<const Surroundings>(Surroundings{part, context, view});
}

std::shared_ptr<const Solid> VoxelSolid::seen_from(const Vec3d& eye, bool wait,
                                                   const std::function<bool()>& go_on) const {
  if (surroundings_ == nullptr) return nullptr;
  const Surroundings& own = *surroundings_;
  const LandView view = own.part.land->around(cells_of(own.part, eye), wait, go_on);
  if (view.version == own.view.version) return nullptr;
  return std::make_shared<const VoxelSolid>(own.part, own.context, view);
}

std::size_t VoxelSolid::missing() const {
  return surroundings_ == nullptr ? 0 : surroundings_->view.missing;
}

std::uint32_t VoxelSolid::material_of(std::uint32_t value) const {
  return materials_.empty() ? material_ : materials_[value];
}

std::uint32_t VoxelSolid::color_of(std::uint32_t value) const {
  const VoxelPalette& palette = *tree_.palette;
  return palette.direct ? value - 1 : palette.kinds[value - 1].color;
}

template <class Number>
void VoxelSolid::take_lanes(const LaneBatch<Number>& lanes, const bool* left_out,
                            VoxelLanes& to) const {
  to.count = 0;
  to.together = lanes.together;
  to.single = std::is_same_v<Number, float>;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (left_out != nullptr && left_out[i]) continue;
    const std::size_t k = to.count++;
    Vec3d from(static_cast<double>(lanes.x[i]), static_cast<double>(lanes.y[i]),
               static_cast<double>(lanes.z[i]));
    Vec3d way(static_cast<double>(lanes.direction_x[i]), static_cast<double>(lanes.direction_y[i]),
              static_cast<double>(lanes.direction_z[i]));
    from -= at_;
    if (turned_) {
      from = back_ * from;
      way = back_ * way;
    }
    for (int axis = 0; axis < 3; ++axis) {
      to.from[axis][k] = from[axis] / cell_;
      to.way[axis][k] = way[axis] / cell_;
    }
    to.start[k] = lanes.any_start ? static_cast<double>(lanes.start[i]) : 0;
    const Number limit =
        lanes.any_limit ? std::min(lanes.limit[i], lanes.far_limit) : lanes.far_limit;
    to.limit[k] = static_cast<double>(limit);
  }
}

void VoxelSolid::meet(bool any, VoxelLanes& lanes) const {
  if (copies_ != VoxelCell{1, 1, 1}) return meet_copies(any, lanes);
  const VoxelBodies bodies{bodies_.empty() ? nullptr : bodies_.data()};
  meet_voxels(tree_, within_, bodies, any, lanes);
}

Vec3d VoxelSolid::face_normal(const VoxelLanes& lanes, std::size_t i) const {
  Vec3d normal(0, 0, 0);
  const int axis = std::max<int>(lanes.axis[i], 0);
  normal[axis] = lanes.way[axis][i] > 0 ? -1 : 1;
  return normal;
}

Vec3d VoxelSolid::smooth_normal(const VoxelLanes& lanes, std::size_t i, const Vec3d& face) const {
  constexpr int reach = 2;
  const std::int32_t side = 1 << (2 * lanes.level[i]);
  Vec3d sum(0, 0, 0);
  for (int z = -reach; z <= reach; ++z) {
    for (int y = -reach; y <= reach; ++y) {
      for (int x = -reach; x <= reach; ++x) {
        const Vec3d off(x, y, z);
        if (off.squaredNorm() > reach * reach + 1 || off.squaredNorm() == 0) continue;
        const VoxelCell& cell = lanes.cell[i];
        const VoxelCell other{cell[0] + x * side, cell[1] + y * side, cell[2] + z * side};
        if (voxel_at(tree_, other) != 0) sum -= off / off.squaredNorm();
      }
    }
  }
  // Things one voxel thick have no side to face away from.
  if (sum.norm() < 0.5) return face;
  sum.normalize();
  // Never away from the lane: where it would be, as far over as can be.
  const double away = sum.dot(face);
  return lanes.leaving[i] || away > 0.05 ? sum : Vec3d((sum + (0.05 - away) * face).normalized());
}

template <class Number>
HitBatch<Number> VoxelSolid::trace(const LaneBatch<Number>& lanes, const Budget& budget) const {
  HitBatch<Number> hits;
  let_escape(lanes, hits);
  VoxelLanes own;
  take_lanes(lanes, nullptr, own);
  own.detail = budget.voxels.detail * lanes.spread / cell_;
  meet(false, own);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    hits.steps[i] = own.steps[i];
    if (!own.met[i]) continue;
    hits.t[i] = hits.exit[i] = static_cast<Number>(own.t[i]);
    hits.ending[i] = Ending::hit;
    hits.face[i] = Face::curved;
    const std::uint32_t value = own.value[i];
    hits.item[i] = tree_.palette->direct ? value - 1 : value;
    hits.material[i] = hits.other[i] = material_of(value);
    hits.share[i] = 0;
    const bool node = own.level[i] > 0 && tree_.colored;
    const std::uint32_t color = node ? own.mean[i] & 0xffffff : color_of(value);
    if (color != VoxelKind::no_color) {
      hits.other[i] = color;
      hits.share[i] = own_color;
    }
    if (lanes.ending_only) continue;
    const Vec3d face = face_normal(own, i);
    Vec3d normal = smooth_ ? smooth_normal(own, i, face) : face;
    if (smooth_) {
      const Vec3d way(own.way[0][i], own.way[1][i], own.way[2][i]);
      if (normal.dot(way) > 0) normal = face;
    }
    if (turned_) normal = turn_ * normal;
    hits.normal_x[i] = static_cast<float>(normal.x());
    hits.normal_y[i] = static_cast<float>(normal.y());
    hits.normal_z[i] = static_cast<float>(normal.z());
  }
  return hits;
}

HitBatch<float> VoxelSolid::nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const {
  const StageScope stage(Work::solids, lanes.size);
  return trace(lanes, budget);
}
HitBatch<double> VoxelSolid::nearest_hit(const LaneBatch<double>& lanes,
                                         const Budget& budget) const {
  const StageScope stage(Work::solids, lanes.size);
  return trace(lanes, budget);
}

std::uint64_t VoxelSolid::hide(const LaneBatch<float>& lanes, const Budget&, bool* hidden) const {
  VoxelLanes own;
  take_lanes(lanes, hidden, own);
  meet(true, own);
  std::uint64_t steps = 0;
  std::size_t k = 0;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (hidden[i]) continue;
    steps += own.steps[k];
    hidden[i] = own.met[k++];
  }
  return steps;
}

void VoxelSolid::measure(const DistanceBatch& batch) const {
  static const std::vector<bool> all;
  const bool some = batch.opaque_only && !opaque_.empty();
  for (std::size_t i = 0; i < batch.count; ++i) {
    const Vec3d place = to_cells({batch.x[i], batch.y[i], batch.z[i]});
    // Where all bend light nothing is left to be near to.
    const NearestVoxel nearest = batch.opaque_only && all_bend_
                                     ? NearestVoxel()
                                     : this->nearest(place, some ? opaque_ : all);
    batch.value[i] = nearest.found ? nearest.distance * cell_ : farthest;
    if (batch.material != nullptr) {
      batch.material[i] = nearest.found ? material_of(nearest.value) : material_;
    }
    if (batch.slope_x == nullptr) continue;
    Vec3d slope = place - nearest.place;
    if (nearest.distance < 0) slope = -slope;
    const double length = slope.norm();
    slope = length > 0 ? Vec3d(turn_ * slope / length) : Vec3d(0, 0, 1);
    batch.slope_x[i] = slope.x();
    batch.slope_y[i] = slope.y();
    batch.slope_z[i] = slope.z();
  }
}

std::optional<ClosestSurface> VoxelSolid::closest(const Vec3d& place) const {
  const NearestVoxel nearest = this->nearest(to_cells(place), {});
  if (!nearest.found) return {};
  const double away = std::abs(nearest.distance) * cell_;
  return ClosestSurface{to_room(nearest.place), away, away};
}

Bounds VoxelSolid::bounds() const {
  Bounds result{Vec3d::Constant(std::numeric_limits<double>::infinity()),
                Vec3d::Constant(-std::numeric_limits<double>::infinity())};
  if (within_.empty()) return {at_, at_};
  for (unsigned corner = 0; corner < 8; ++corner) {
    Vec3d place;
    for (std::size_t axis = 0; axis < 3; ++axis) {
      place[static_cast<int>(axis)] =
          (corner >> axis & 1) != 0
              ? within_.high[axis] + static_cast<double>(copies_[axis] - 1) * tree_.size[axis]
              : within_.low[axis];
    }
    const Vec3d own = to_room(place);
    result.low = result.low.cwiseMin(own);
    result.high = result.high.cwiseMax(own);
  }
  return result;
}

std::string VoxelSolid::summary() const {
  if (surroundings_ != nullptr) {
    const LandView& view = surroundings_->view;
    std::string text = fmt::format(
        "voxels of {:.4g} m without end: {} of them around the eye in {} pieces, {:.1f} MB", cell_,
        grid_->count(), view.wanted - view.missing - view.left_out,
        static_cast<double>(view.bytes) / 1e6);
    if (view.missing > 0) text += fmt::format(", {} pieces missing", view.missing);
    if (view.left_out > 0) text += fmt::format(", {} left out for want of memory", view.left_out);
    return text;
  }
  const auto count = static_cast<double>(grid_->count());
  std::string text = fmt::format("{} voxels of {:.4g} m in {} x {} x {} cells", grid_->count(),
                                 cell_, tree_.size[0], tree_.size[1], tree_.size[2]);
  if (count > 0) {
    const auto bytes = static_cast<double>(grid_->bytes());
    text += fmt::format(", {:.1f} MB, {:.2f} bytes each", bytes / 1e6, bytes / count);
  }
  if (copies_ != VoxelCell{1, 1, 1}) {
    text += fmt::format(", {} x {} x {} times", copies_[0], copies_[1], copies_[2]);
  }
  return text;
}

std::size_t VoxelSolid::memory_bytes() const {
  return sizeof(*this) + grid_->memory_bytes() +
         (materials_.capacity() + bodies_.capacity()) * sizeof(std::uint32_t);
}

std::vector<VoxelVisit> VoxelSolid::visits(const Vec3d& from, const Vec3d& way,
                                           double length) const {
  LaneBatch<double> lane;
  lane.size = 1;
  lane.far_limit = length;
  lane.x[0] = from.x();
  lane.y[0] = from.y();
  lane.z[0] = from.z();
  lane.direction_x[0] = way.x();
  lane.direction_y[0] = way.y();
  lane.direction_z[0] = way.z();
  VoxelLanes own;
  take_lanes(lane, nullptr, own);
  std::vector<VoxelVisit> visits;
  own.visits = &visits;
  meet(false, own);
  return visits;
}

std::vector<std::string> VoxelSolid::faults() const {
  std::vector<std::string> faults;
  if (within_.empty()) faults.push_back("a grid without voxels: nothing meets it");
  if (surroundings_ != nullptr && surroundings_->view.left_out > 0) {
    faults.push_back(
        fmt::format("{} of {} pieces of land are left out, as memory says; they are "
                    "shown coarser",
                    surroundings_->view.left_out, surroundings_->view.wanted));
  }
  return faults;
}

}  // namespace photonlane
