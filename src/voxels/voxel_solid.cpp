#include "voxels/voxel_solid.hpp"

#include <fmt/format.h>

#include <Eigen/Geometry>

#include <cmath>
#include <limits>
#include <map>

#include "base/stage_clock.hpp"
#include "lane/hits.hpp"
#include "photonlane/base/error.hpp"
#include "voxels/any_node.hpp"

namespace photonlane {
namespace {

/// With more voxels that emit, or boxes of them, light is left to be found by chance.
constexpr std::size_t most_emitting = std::size_t{1} << 20;
constexpr std::size_t most_emitters = 4096;
constexpr double most_copies = 65536;
/// The distance, in meters, of a grid without voxels: no place of a scene is farther apart.
constexpr double farthest = 1e7;

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

VoxelSolid::VoxelSolid(const Voxels& part, const SolidContext& context)
    : grid_(part.grid),
      tree_(grid_->tree()),
      within_(grid_->bounds()),
      cell_(part.cell),
      at_(part.at),
      turn_((Eigen::AngleAxisd(part.turn.z(), Vec3d::UnitZ()) *
             Eigen::AngleAxisd(part.turn.y(), Vec3d::UnitY()) *
             Eigen::AngleAxisd(part.turn.x(), Vec3d::UnitX()))
                .toRotationMatrix()),
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
  const std::size_t values = palette.direct ? 0 : materials_.size();
  bodies_.assign(values, 0);
  opaque_.assign(values, true);
  for (std::size_t value = 0; value < values; ++value) {
    if (!bends(materials_[value])) continue;
    bodies_[value] = materials_[value] + 1;
    opaque_[value] = false;
  }
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
      if (std::abs(way) < 1e-300) {
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
        if (std::abs(way) < 1e-300) continue;
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

void VoxelSolid::measure(const DistanceBatch& batch) const {
  static const std::vector<bool> all;
  const bool some = batch.opaque_only && !opaque_.empty();
  for (std::size_t i = 0; i < batch.count; ++i) {
    const Vec3d place = to_cells({batch.x[i], batch.y[i], batch.z[i]});
    const NearestVoxel nearest = this->nearest(place, some ? opaque_ : all);
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

std::vector<Emitter> VoxelSolid::emitters(const std::vector<bool>& emitting) const {
  std::vector<Emitter> result;
  // Light of those with a color of their own is found by chance: it is not their material's.
  const auto emits = [&](std::uint32_t value) {
    const std::uint32_t material = material_of(value);
    return material < emitting.size() && emitting[material] &&
           color_of(value) == VoxelKind::no_color;
  };
  bool any = false;
  for (std::uint32_t value = 1; value < materials_.size(); ++value) any = any || emits(value);
  if (!any || turned_ || copies_ != VoxelCell{1, 1, 1}) return result;
  std::map<VoxelCell, std::uint32_t> cells;
  bool many = false;
  const std::function<void(const AnyVoxelNode&)> look = [&](const AnyVoxelNode& at) {
    for (std::uint64_t left = at.mask(); left != 0 && !many; left &= left - 1) {
      const auto child = static_cast<unsigned>(std::countr_zero(left));
      if (!has_bit(at.full(), child)) {
        look(at.child(child));
        continue;
      }
      const std::uint32_t value = at.value(child);
      if (!emits(value)) continue;
      many = at.level > brick_level + 1 || cells.size() > most_emitting;
      const VoxelCell low = at.child_low(child);
      for (int k = 0; k < 64 && !many; ++k) {
        if (at.level == brick_level && k > 0) break;
        cells.emplace(VoxelCell{low[0] + (k & 3), low[1] + (k >> 2 & 3), low[2] + (k >> 4)}, value);
      }
    }
  };
  look(AnyVoxelNode::root_of(tree_));
  if (many) return result;
  // Those that lie together are one box, so that no light is sought on faces within.
  while (!cells.empty()) {
    const VoxelCell low = cells.begin()->first;
    const std::uint32_t value = cells.begin()->second;
    VoxelCell high{low[0] + 1, low[1] + 1, low[2] + 1};
    const auto each = [](const VoxelCell& from, const VoxelCell& to, const auto& work) {
      for (int x = from[0]; x < to[0]; ++x) {
        for (int y = from[1]; y < to[1]; ++y) {
          for (int z = from[2]; z < to[2]; ++z) work(VoxelCell{x, y, z});
        }
      }
    };
    for (const std::size_t axis : {2u, 1u, 0u}) {
      for (bool grows = true; grows;) {
        VoxelCell from = low;
        VoxelCell to = high;
        from[axis] = high[axis];
        to[axis] = high[axis] + 1;
        each(from, to, [&](const VoxelCell& cell) {
          const auto found = cells.find(cell);
          grows = grows && found != cells.end() && found->second == value;
        });
        if (grows) ++high[axis];
      }
    }
    Emitter one;
    one.item = value;
    one.material = material_of(value);
    one.low = to_room(Vec3d(low[0], low[1], low[2]));
    one.high = to_room(Vec3d(high[0], high[1], high[2]));
    each(low, high, [&](const VoxelCell& cell) { cells.erase(cell); });
    result.push_back(one);
    if (result.size() > most_emitters) return {};
  }
  return result;
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
  return faults;
}

}  // namespace photonlane
