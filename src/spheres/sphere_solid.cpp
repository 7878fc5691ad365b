#include "spheres/sphere_solid.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/stage_clock.hpp"
#include "lane/hits.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane {
namespace {

constexpr double largest_place = 1e6;  // meters
constexpr std::size_t group = 16;      // spheres looked at in a step

void check_material(int material, std::size_t materials) {
  if (material < -1 || material >= static_cast<std::ptrdiff_t>(materials)) {
    throw Error(ErrorKind::input,
                fmt::format("a sphere of material {}, of which there are {}", material, materials));
  }
}

Bounds bounds_of(const std::vector<Sphere>& spheres) {
  const double infinite = std::numeric_limits<double>::infinity();
  Bounds bounds{Vec3d::Constant(infinite), Vec3d::Constant(-infinite)};
  for (const Sphere& sphere : spheres) {
    bounds.low = bounds.low.cwiseMin(sphere.center - Vec3d::Constant(sphere.radius));
    bounds.high = bounds.high.cwiseMax(sphere.center + Vec3d::Constant(sphere.radius));
  }
  return bounds;
}

/// Whether a lane comes into the ball whose middle and reach all of them are within.
bool may_meet(const SphereArrays& arrays, const SphereLane& lane) {
  const Vec3d off = arrays.middle - lane.from;
  const double along = off.dot(lane.way) / lane.way.squaredNorm();
  // What rounding takes away, and floats that are told.
  const double reach = arrays.reach + 1e-6 * (arrays.reach + off.norm());
  const double square = (off - along * lane.way).squaredNorm();
  if (square > reach * reach) return false;
  const double half = std::sqrt(reach * reach - square) * (1 + 1e-6);
  return along + half >= lane.start && along - half <= lane.limit;
}

template <class Number>
SphereLane lane_of(const LaneBatch<Number>& lanes, std::size_t i) {
  SphereLane lane;
  lane.from = Vec3d(static_cast<double>(lanes.x[i]), static_cast<double>(lanes.y[i]),
                    static_cast<double>(lanes.z[i]));
  lane.way =
      Vec3d(static_cast<double>(lanes.direction_x[i]), static_cast<double>(lanes.direction_y[i]),
            static_cast<double>(lanes.direction_z[i]));
  lane.start = lanes.any_start ? static_cast<double>(lanes.start[i]) : 0;
  const Number limit =
      lanes.any_limit ? std::min(lanes.limit[i], lanes.far_limit) : lanes.far_limit;
  lane.limit = static_cast<double>(limit);
  lane.single = std::is_same_v<Number, float>;
  return lane;
}

}  // namespace

std::span<const Knob<Sphere>> sphere_knobs() {
  static const Knob<Sphere> table[] = {
      knob<&Sphere::center>("at", "meters", {-largest_place, largest_place},
                            "center of the sphere"),
      knob<&Sphere::radius>("radius", "meters", {0, largest_place, true}, "radius of the sphere"),
  };
  return table;
}

void Spheres::use_materials(const std::function<void(int)>& use) const {
  bool some = false;  // are of the set's
  for (const Sphere& sphere : spheres) {
    some = some || sphere.material < 0;
    if (sphere.material >= 0) use(sphere.material);
  }
  if (some) use(material);
}

std::shared_ptr<const Solid> Spheres::compile(const SolidContext& context) const {
  if (spheres.empty() || spheres.size() > most) {
    throw Error(ErrorKind::input,
                fmt::format("a set of {} spheres, expected 1 to {}", spheres.size(), most));
  }
  check_material(material, context.materials);
  for (const Sphere& sphere : spheres) {
    validate_knobs(sphere_knobs(), sphere);
    check_material(sphere.material, context.materials);
  }
  return std::make_shared<const SphereSolid>(*this, context);
}

SphereArrays::SphereArrays(const std::vector<Sphere>& spheres) : count(spheres.size()) {
  const Bounds bounds = bounds_of(spheres);
  middle = 0.5 * (bounds.low + bounds.high);
  for (const Sphere& sphere : spheres) {
    const Vec3d from_middle = sphere.center - middle;
    reach = std::max(reach, from_middle.norm() + sphere.radius);
    x.push_back(static_cast<float>(from_middle.x()));
    y.push_back(static_cast<float>(from_middle.y()));
    z.push_back(static_cast<float>(from_middle.z()));
    radius.push_back(static_cast<float>(sphere.radius));
    center_x.push_back(sphere.center.x());
    center_y.push_back(sphere.center.y());
    center_z.push_back(sphere.center.z());
    exact_radius.push_back(sphere.radius);
  }
  // Kernels look up to the end of a whole vector.
  for (std::vector<float>* one : {&x, &y, &z, &radius}) {
    one->resize((count + group - 1) / group * group, 0.0f);
  }
}

SphereSolid::SphereSolid(const Spheres& set, const SolidContext& context)
    : arrays_(set.spheres), bounds_(bounds_of(set.spheres)) {
  smallest_ = std::numeric_limits<double>::infinity();
  std::vector<Sphere> opaque;
  for (const Sphere& sphere : set.spheres) {
    smallest_ = std::min(smallest_, sphere.radius);
    largest_ = std::max(largest_, sphere.radius);
    const int own = sphere.material >= 0 ? sphere.material : set.material;
    const std::uint32_t material = own >= 0 ? static_cast<std::uint32_t>(own) : context.plain;
    material_.push_back(material);
    if (material < context.bends.size() && context.bends[material]) continue;
    opaque.push_back(sphere);
    opaque_material_.push_back(material);
  }
  if (!opaque.empty() && opaque.size() < set.spheres.size()) opaque_ = SphereArrays(opaque);
}

template <class Number>
HitBatch<Number> SphereSolid::trace(const LaneBatch<Number>& lanes) const {
  HitBatch<Number> hits;
  let_escape(lanes, hits);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const SphereLane lane = lane_of(lanes, i);
    if (!may_meet(arrays_, lane)) continue;
    hits.steps[i] = static_cast<std::uint32_t>((arrays_.count + group - 1) / group);
    const SphereHit hit = meet_spheres(arrays_, lane, false);
    if (hit.sphere < 0) continue;
    const auto met = static_cast<std::size_t>(hit.sphere);
    hits.t[i] = hits.exit[i] = static_cast<Number>(hit.t);
    hits.ending[i] = Ending::hit;
    hits.face[i] = Face::curved;
    hits.item[i] = static_cast<std::uint32_t>(met);
    hits.material[i] = hits.other[i] = material_[met];
    hits.share[i] = 0;
    const Vec3d center(arrays_.center_x[met], arrays_.center_y[met], arrays_.center_z[met]);
    Vec3d normal = (lane.from + hit.t * lane.way - center).normalized();
    if (normal.dot(lane.way) > 0) normal = -normal;
    hits.normal_x[i] = static_cast<float>(normal.x());
    hits.normal_y[i] = static_cast<float>(normal.y());
    hits.normal_z[i] = static_cast<float>(normal.z());
  }
  return hits;
}

HitBatch<float> SphereSolid::nearest_hit(const LaneBatch<float>& lanes, const Budget&) const {
  const StageScope stage(Work::solids, lanes.size);
  return trace(lanes);
}
HitBatch<double> SphereSolid::nearest_hit(const LaneBatch<double>& lanes, const Budget&) const {
  const StageScope stage(Work::solids, lanes.size);
  return trace(lanes);
}

std::uint64_t SphereSolid::hide(const LaneBatch<float>& lanes, const Budget&, bool* hidden) const {
  std::uint64_t steps = 0;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (hidden[i]) continue;
    const SphereLane lane = lane_of(lanes, i);
    if (!may_meet(arrays_, lane)) continue;
    steps += (arrays_.count + group - 1) / group;
    hidden[i] = meet_spheres(arrays_, lane, true).sphere >= 0;
  }
  return steps;
}

void SphereSolid::measure(const DistanceBatch& batch) const {
  const bool some = batch.opaque_only && opaque_.count > 0;
  const SphereArrays& arrays = some ? opaque_ : arrays_;
  const std::vector<std::uint32_t>& material = some ? opaque_material_ : material_;
  for (std::size_t i = 0; i < batch.count; ++i) {
    const Vec3d place(batch.x[i], batch.y[i], batch.z[i]);
    double distance = 0;
    const auto nearest = static_cast<std::size_t>(nearest_sphere(arrays, place, &distance));
    batch.value[i] = distance;
    if (batch.material != nullptr) batch.material[i] = material[nearest];
    if (batch.slope_x == nullptr) continue;
    const Vec3d off =
        place - Vec3d(arrays.center_x[nearest], arrays.center_y[nearest], arrays.center_z[nearest]);
    const double away = off.norm();
    const Vec3d slope = away > 0 ? Vec3d(off / away) : Vec3d(0, 0, 1);
    batch.slope_x[i] = slope.x();
    batch.slope_y[i] = slope.y();
    batch.slope_z[i] = slope.z();
  }
}

std::optional<ClosestSurface> SphereSolid::closest(const Vec3d& place) const {
  double distance = 0;
  const auto nearest = static_cast<std::size_t>(nearest_sphere(arrays_, place, &distance));
  const Vec3d center(arrays_.center_x[nearest], arrays_.center_y[nearest],
                     arrays_.center_z[nearest]);
  const Vec3d off = place - center;
  const double away = off.norm();
  const Vec3d out = away > 0 ? Vec3d(off / away) : Vec3d(0, 0, 1);
  const double least = std::abs(distance);
  const Vec3d met = center + arrays_.exact_radius[nearest] * out;
  // From inside of several, the surface of one of them may lie in another.
  double there = 0;
  nearest_sphere(arrays_, met, &there);
  const bool hidden = there < -1e-9 * arrays_.reach;
  return ClosestSurface{met, hidden ? std::numeric_limits<double>::infinity() : least, least};
}

std::string SphereSolid::summary() const {
  if (smallest_ == largest_) {
    return fmt::format("{} sphere{} of radius {:.4g} m", arrays_.count,
                       arrays_.count == 1 ? "" : "s", largest_);
  }
  return fmt::format("{} spheres of radius {:.4g} to {:.4g} m", arrays_.count, smallest_, largest_);
}

std::size_t SphereSolid::memory_bytes() const {
  std::size_t bytes = sizeof(*this);
  for (const SphereArrays* arrays : {&arrays_, &opaque_}) {
    bytes +=
        4 * arrays->x.capacity() * sizeof(float) + 4 * arrays->center_x.capacity() * sizeof(double);
  }
  return bytes + (material_.capacity() + opaque_material_.capacity()) * sizeof(std::uint32_t);
}

std::vector<Emitter> SphereSolid::emitters(const std::vector<bool>& emitting) const {
  std::vector<Emitter> result;
  for (std::size_t i = 0; i < arrays_.count; ++i) {
    if (material_[i] >= emitting.size() || !emitting[material_[i]]) continue;
    Emitter one;
    one.item = static_cast<std::uint32_t>(i);
    one.material = material_[i];
    one.ball = true;
    one.place = {arrays_.center_x[i], arrays_.center_y[i], arrays_.center_z[i]};
    one.radius = arrays_.exact_radius[i];
    result.push_back(one);
  }
  return result;
}

}  // namespace photonlane
