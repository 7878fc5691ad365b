#include "spheres/sphere_solid.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/stage_clock.hpp"
#include "lane/hits.hpp"
#include "photonlane/base/error.hpp"
#include "spheres/parted_solid.hpp"
#include "spheres/sphere_nearest.hpp"

namespace photonlane {
namespace {

/// With more parts that emit, light is left to be found by chance.
constexpr std::uint64_t most_emitters = std::uint64_t{1} << 20;

void check_material(int material, std::size_t materials) {
  if (material < -1 || material >= static_cast<std::ptrdiff_t>(materials)) {
    throw Error(ErrorKind::input,
                fmt::format("a sphere of material {}, of which there are {}", material, materials));
  }
}

template <class Number>
void take_lanes(const LaneBatch<Number>& lanes, const bool* left_out, SphereLanes& to) {
  to.count = 0;
  to.single = std::is_same_v<Number, float>;
  to.together = lanes.together;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (left_out != nullptr && left_out[i]) continue;
    const std::size_t k = to.count++;
    to.x[k] = static_cast<double>(lanes.x[i]);
    to.y[k] = static_cast<double>(lanes.y[i]);
    to.z[k] = static_cast<double>(lanes.z[i]);
    to.way_x[k] = static_cast<double>(lanes.direction_x[i]);
    to.way_y[k] = static_cast<double>(lanes.direction_y[i]);
    to.way_z[k] = static_cast<double>(lanes.direction_z[i]);
    to.start[k] = lanes.any_start ? static_cast<double>(lanes.start[i]) : 0;
    const Number limit =
        lanes.any_limit ? std::min(lanes.limit[i], lanes.far_limit) : lanes.far_limit;
    to.limit[k] = static_cast<double>(limit);
  }
}

}  // namespace

void Spheres::use_materials(const std::function<void(int)>& use) const {
  if (set != nullptr || parts != nullptr) {
    if (!(parts != nullptr ? parts->has_materials : set->has_materials())) return use(material);
    for (const std::uint32_t number : parts != nullptr ? parts->numbers : set->store().numbers()) {
      if (number == SphereStore::no_number) {
        use(material);
      } else if (materials.empty()) {
        use(static_cast<int>(number));
      } else if (number < materials.size()) {
        use(materials[number]);
      }
    }
    return;
  }
  bool some = false;  // are of the set's
  for (const Sphere& sphere : spheres) {
    some = some || sphere.material < 0;
    if (sphere.material >= 0) use(sphere.material);
  }
  if (some) use(material);
}

std::shared_ptr<const Solid> Spheres::compile(const SolidContext& context) const {
  check_material(material, context.materials);
  for (const int one : materials) check_material(one, context.materials);
  if (parts != nullptr) return std::make_shared<const PartedSolid>(*this, context);
  if (set != nullptr) return std::make_shared<const SphereSolid>(set, material, materials, context);
  if (spheres.empty()) throw Error(ErrorKind::input, "a set of 0 spheres, expected one at least");
  for (const Sphere& sphere : spheres) {
    validate_knobs(sphere_knobs(), sphere);
    check_material(sphere.material, context.materials);
  }
  return std::make_shared<const SphereSolid>(
      SphereSet::make(spheres, {.keeping = SphereKeeping::exact, .progress = {}}), material,
      materials, context);
}

SphereSolid::SphereSolid(std::shared_ptr<const SphereSet> set, int material,
                         const std::vector<int>& materials, const SolidContext& context)
    : set_(std::move(set)),
      store_(set_->store()),
      material_(material >= 0 ? static_cast<std::uint32_t>(material) : context.plain),
      bends_(context.bends) {
  for (const int one : materials) {
    materials_.push_back(one >= 0 ? static_cast<std::uint32_t>(one) : material_);
  }
  if (!set_->has_materials()) return;
  const std::size_t known = materials.empty() ? context.materials : materials.size();
  bool some = false;
  bool others = false;
  for (const std::uint32_t number : store_.numbers()) {
    if (number != SphereStore::no_number && number >= known) {
      throw Error(ErrorKind::input,
                  fmt::format("a sphere has material {}, of which there are {}", number, known));
    }
    const std::uint32_t own = material_numbered(number);
    const bool bends = own < bends_.size() && bends_[own];
    some = some || bends;
    others = others || !bends;
  }
  some_bend_ = some && others;
}

std::uint32_t SphereSolid::material_numbered(std::uint32_t number) const {
  if (number == SphereStore::no_number) return material_;
  return materials_.empty() ? number : materials_[number];
}

std::uint32_t SphereSolid::material_of(std::uint64_t slot) const {
  if (store_.head().material_bytes == 0) return material_;
  return material_numbered(store_.material_at(slot));
}

template <class Number>
HitBatch<Number> SphereSolid::trace(const LaneBatch<Number>& lanes, const Budget& budget) const {
  HitBatch<Number> hits;
  let_escape(lanes, hits);
  SphereLanes own;
  take_lanes(lanes, nullptr, own);
  own.detail = budget.spheres.detail * lanes.spread;
  meet_spheres(store_.tree(), false, own);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    hits.steps[i] = own.steps[i];
    const std::uint32_t slot = own.slot[i];
    if (slot == SphereLanes::none) continue;
    hits.t[i] = hits.exit[i] = static_cast<Number>(own.t[i]);
    hits.ending[i] = Ending::hit;
    hits.face[i] = Face::curved;
    hits.item[i] = store_.item_of(slot);
    hits.material[i] = hits.other[i] = material_of(slot);
    hits.share[i] = 0;
    if (store_.head().color_bytes > 0) {
      hits.other[i] = store_.color_at(slot);
      hits.share[i] = own_color;
    }
    if (lanes.ending_only) continue;
    const Vec3d way(own.way_x[i], own.way_y[i], own.way_z[i]);
    const Vec3d center(own.center_x[i], own.center_y[i], own.center_z[i]);
    Vec3d normal = (Vec3d(own.x[i], own.y[i], own.z[i]) + own.t[i] * way - center).normalized();
    if (normal.dot(way) > 0) normal = -normal;
    hits.normal_x[i] = static_cast<float>(normal.x());
    hits.normal_y[i] = static_cast<float>(normal.y());
    hits.normal_z[i] = static_cast<float>(normal.z());
  }
  return hits;
}

HitBatch<float> SphereSolid::nearest_hit(const LaneBatch<float>& lanes,
                                         const Budget& budget) const {
  const StageScope stage(Work::solids, lanes.size);
  return trace(lanes, budget);
}
HitBatch<double> SphereSolid::nearest_hit(const LaneBatch<double>& lanes,
                                          const Budget& budget) const {
  const StageScope stage(Work::solids, lanes.size);
  return trace(lanes, budget);
}

std::uint64_t SphereSolid::hide(const LaneBatch<float>& lanes, const Budget&, bool* hidden) const {
  SphereLanes own;
  take_lanes(lanes, hidden, own);
  meet_spheres(store_.tree(), true, own);
  std::uint64_t steps = 0;
  std::size_t k = 0;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (hidden[i]) continue;
    steps += own.steps[k];
    hidden[i] = own.slot[k++] != SphereLanes::none;
  }
  return steps;
}

void SphereSolid::measure(const DistanceBatch& batch) const {
  SphereFilter opaque;
  if (batch.opaque_only && some_bend_) {
    opaque = {this, [](const void* of, std::uint64_t slot) {
                const auto& solid = *static_cast<const SphereSolid*>(of);
                const std::uint32_t own = solid.material_of(slot);
                return !(own < solid.bends_.size() && solid.bends_[own]);
              }};
  }
  for (std::size_t i = 0; i < batch.count; ++i) {
    const Vec3d place(batch.x[i], batch.y[i], batch.z[i]);
    const NearestSphere nearest = nearest_sphere(store_.tree(), place, opaque);
    batch.value[i] = nearest.distance;
    if (batch.material != nullptr) batch.material[i] = material_of(nearest.slot);
    if (batch.slope_x == nullptr) continue;
    const Vec3d off = place - nearest.center;
    const double away = off.norm();
    const Vec3d slope = away > 0 ? Vec3d(off / away) : Vec3d(0, 0, 1);
    batch.slope_x[i] = slope.x();
    batch.slope_y[i] = slope.y();
    batch.slope_z[i] = slope.z();
  }
}

std::optional<ClosestSurface> SphereSolid::closest(const Vec3d& place) const {
  const NearestSphere nearest = nearest_sphere(store_.tree(), place, {});
  const Vec3d off = place - nearest.center;
  const double away = off.norm();
  const Vec3d out = away > 0 ? Vec3d(off / away) : Vec3d(0, 0, 1);
  const double least = std::abs(nearest.distance);
  const Vec3d met = nearest.center + nearest.radius * out;
  // From inside of several, the surface of one of them may lie in another.
  const bool hidden = nearest_sphere(store_.tree(), met, {}).distance < -1e-9 * store_.tree().reach;
  return ClosestSurface{met, hidden ? std::numeric_limits<double>::infinity() : least, least};
}

std::optional<Ball> SphereSolid::ball(std::uint32_t item) const {
  if (!set_->exact() || !set_->is_item(item)) return std::nullopt;
  const Sphere sphere = set_->sphere(item);
  return Ball{sphere.center, sphere.radius};
}

std::string SphereSolid::summary() const {
  std::string text = set_->smallest() == set_->largest()
                         ? fmt::format("{} sphere{} of radius {:.4g} m", set_->size(),
                                       set_->size() == 1 ? "" : "s", set_->largest())
                         : fmt::format("{} spheres of radius {:.4g} to {:.4g} m", set_->size(),
                                       set_->smallest(), set_->largest());
  if (!set_->exact()) {
    text +=
        fmt::format(", in {:.1f} bytes each, moved by at most {:.2g} m",
                    static_cast<double>(store_.arrays().bytes) / static_cast<double>(set_->size()),
                    set_->moved());
  }
  return text;
}

std::size_t SphereSolid::memory_bytes() const {
  return sizeof(*this) + set_->memory_bytes() + materials_.capacity() * sizeof(std::uint32_t);
}

SphereSolid::Findings SphereSolid::look_through(const Bounds& room, const Vec3d& eye,
                                                double far_limit) const {
  const SphereTree& tree = store_.tree();
  std::uint64_t empty = 0;
  std::uint64_t outside = 0;
  std::uint64_t beyond = 0;
  for_each_block(tree, 0, store_.head().nodes(0), [&](std::uint64_t node, int child) {
    const SphereEight eight = eight_of(tree, node, child);
    const std::uint64_t first = 8 * tree.block_of(node, child);
    // The last block of a part may be filled up.
    const int there = store_.taken(first + 7) ? 8 : 7;
    for (int k = 0; k < there; ++k) {
      if (there < 8 && !store_.taken(first + static_cast<unsigned>(k))) break;
      const Vec3d center(eight.x[k], eight.y[k], eight.z[k]);
      empty += eight.radius[k] > 0 ? 0 : 1;
      outside +=
          (center.array() < room.low.array()).any() || (center.array() > room.high.array()).any()
              ? 1
              : 0;
      beyond += (center - eye).norm() - eight.radius[k] > far_limit ? 1 : 0;
    }
  });
  // Looking for neighbors takes longer: some of them stand for all.
  constexpr std::uint64_t looked_at = 20000;
  const std::uint64_t items = set_->items();
  const std::uint64_t every = std::max<std::uint64_t>(1, items / looked_at);
  std::uint64_t looked = 0;
  std::uint64_t twice = 0;
  std::uint64_t within = 0;
  for (std::uint64_t item = 0; item < items; item += every) {
    if (!set_->is_item(item)) continue;
    const Sphere sphere = set_->sphere(item);
    ++looked;
    struct Self {
      const SphereSolid* solid;
      std::uint64_t item;
    } self{this, item};
    const SphereFilter others{&self, [](const void* of, std::uint64_t slot) {
                                const auto& own = *static_cast<const Self*>(of);
                                return own.solid->store_.item_of(slot) != own.item &&
                                       own.solid->store_.taken(slot);
                              }};
    const NearestSphere nearest = nearest_sphere(tree, sphere.center, others);
    if (!nearest.found) continue;
    twice += nearest.center == sphere.center && nearest.radius == sphere.radius ? 1 : 0;
    within += nearest.distance < sphere.radius ? 1 : 0;
  }
  Findings findings;
  std::vector<std::string>& faults = findings.faults;
  const auto add = [&](std::uint64_t count, std::string_view what) {
    if (count > 0) {
      faults.push_back(fmt::format("{} of {} spheres {}", count, set_->size(), what));
    }
  };
  add(empty, "have a radius of 0: nothing meets them");
  add(outside, "lie outside of the room's cells");
  add(beyond, fmt::format("lie farther from the eye than far_limit, {} m", far_limit));
  if (looked == 0) return findings;
  if (twice > 0) {
    faults.push_back(fmt::format("{:.3g} % of {} spheres that were looked at are there twice",
                                 100 * static_cast<double>(twice) / static_cast<double>(looked),
                                 looked));
  }
  findings.within = static_cast<double>(within) / static_cast<double>(looked);
  return findings;
}

std::vector<Emitter> SphereSolid::emitters(const std::vector<bool>& emitting) const {
  std::vector<Emitter> result;
  const auto emits = [&](std::uint32_t material) {
    return material < emitting.size() && emitting[material];
  };
  if (store_.head().material_bytes == 0 && !emits(material_)) return result;
  // Light of spheres with colors of their own is found by chance: it is not their material's.
  if (store_.head().color_bytes > 0) return result;
  for (std::uint64_t item = 0; item < set_->items(); ++item) {
    if (!set_->is_item(item)) continue;
    const std::uint64_t slot = store_.slot_of(item);
    const std::uint32_t material = material_of(slot);
    if (!emits(material)) continue;
    if (result.size() == most_emitters) return {};
    const Sphere sphere = store_.sphere_at(slot);
    if (!(sphere.radius > 0)) continue;
    Emitter one;
    one.item = static_cast<std::uint32_t>(item);
    one.material = material;
    one.ball = true;
    one.place = sphere.center;
    one.radius = sphere.radius;
    result.push_back(one);
  }
  return result;
}

}  // namespace photonlane
