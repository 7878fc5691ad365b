#include "photonlane/spheres/sphere_parts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <limits>

#include "photonlane/base/error.hpp"

namespace photonlane {
namespace {

constexpr std::size_t most_samples = std::size_t{1} << 18;

/// Every so many-th sphere, ever fewer while there are too many.
std::vector<Vec3d> sample(const SphereSource& source) {
  std::vector<Vec3d> places;
  std::uint64_t every = 1;
  std::uint64_t index = 0;
  for (std::size_t stretch = 0; stretch < source.stretches(); ++stretch) {
    source.read(stretch, [&](const SphereRun& run) {
      for (std::size_t i = 0; i < run.count; ++i, ++index) {
        if (index % every != 0) continue;
        const Vec3d place(run.x[i], run.y[i], run.z[i]);
        if (!place.allFinite()) continue;  // told when sets are made
        places.push_back(place);
        if (places.size() < most_samples) continue;
        // Those that every second time would have taken.
        for (std::size_t k = 0; 2 * k < places.size(); ++k) places[k] = places[2 * k];
        places.resize((places.size() + 1) / 2);
        every *= 2;
      }
    });
  }
  return places;
}

void split(std::span<Vec3d> places, const SphereRegion& region, int parts,
           std::vector<SphereRegion>& regions) {
  if (parts == 1) {
    regions.push_back(region);
    return;
  }
  Vec3d low = Vec3d::Constant(std::numeric_limits<double>::infinity());
  Vec3d high = -low;
  for (const Vec3d& place : places) {
    low = low.cwiseMin(place);
    high = high.cwiseMax(place);
  }
  int axis = 0;
  (high - low).maxCoeff(&axis);
  const int before = parts / 2;
  const std::size_t at =
      places.size() * static_cast<std::size_t>(before) / static_cast<std::size_t>(parts);
  std::nth_element(places.begin(), places.begin() + static_cast<std::ptrdiff_t>(at), places.end(),
                   [&](const Vec3d& one, const Vec3d& other) { return one[axis] < other[axis]; });
  const double cut = places[at][axis];
  const auto middle = std::partition(places.begin(), places.end(),
                                     [&](const Vec3d& place) { return place[axis] < cut; });
  const auto count = static_cast<std::size_t>(middle - places.begin());
  if (count < static_cast<std::size_t>(before) ||
      places.size() - count < static_cast<std::size_t>(parts - before)) {
    throw Error(ErrorKind::input,
                fmt::format("too few spheres in different places for so many parts: {} of those "
                            "looked at for {}",
                            places.size(), parts));
  }
  SphereRegion one = region;
  SphereRegion other = region;
  one.high[axis] = other.low[axis] = cut;
  split(places.first(count), one, before, regions);
  split(places.subspan(count), other, parts - before, regions);
}

}  // namespace

std::vector<SphereRegion> split_space(const SphereSource& source, int parts) {
  if (parts < 1) {
    throw Error(ErrorKind::input, fmt::format("{} parts, expected 1 at least", parts));
  }
  std::vector<Vec3d> places = sample(source);
  if (places.size() < static_cast<std::size_t>(parts)) {
    throw Error(ErrorKind::input, fmt::format("{} parts of {} spheres", parts, places.size()));
  }
  const Vec3d end = Vec3d::Constant(std::numeric_limits<double>::infinity());
  std::vector<SphereRegion> regions;
  split(places, {-end, end}, parts, regions);
  return regions;
}

void SpheresInRegion::read(std::size_t stretch,
                           const std::function<void(const SphereRun&)>& take) const {
  SphereRun own;
  all_.read(stretch, [&](const SphereRun& run) {
    for (std::size_t i = 0; i < run.count; ++i) {
      const Vec3d place(run.x[i], run.y[i], run.z[i]);
      const bool before = (place.array() < region_.low.array()).any();
      const bool beyond = (place.array() >= region_.high.array()).any();
      // What is no place is in each of them, so that whoever makes a set of one tells it.
      if ((before || beyond) && place.allFinite()) continue;
      const std::size_t k = own.count++;
      own.x[k] = run.x[i];
      own.y[k] = run.y[i];
      own.z[k] = run.z[i];
      own.radius[k] = run.radius[i];
      if (has_materials()) own.material[k] = run.material[i];
      if (has_colors()) own.color[k] = run.color[i];
      if (own.count < SphereRun::capacity) continue;
      take(own);
      own.count = 0;
    }
  });
  if (own.count > 0) take(own);
}

}  // namespace photonlane
