#include <algorithm>
#include <cmath>
#include <unordered_map>

#include "field/fold_source.hpp"
#include "field/scatter.hpp"
#include "field/way_down.hpp"
#include "photonlane/field/compiled_field.hpp"

namespace photonlane {
namespace {

/// All but one in a thousand of some shares, at least 1.
double nearly_worst(std::vector<double> shares) {
  if (shares.empty()) return 1;
  const auto rare = static_cast<std::ptrdiff_t>(shares.size() / 1000);
  std::nth_element(shares.begin(), shares.end() - 1 - rare, shares.end());
  return std::max(1.0, *(shares.end() - 1 - rare));
}

/// The same by steps from outside: straight down, and any way, how far it is until one is inside.
double worst_step(const CompiledField& compiled, const std::vector<Vec3d>& from,
                  const std::vector<FieldSlope>& slopes, const std::vector<Vec3d>& ways,
                  double least) {
  constexpr int parts = 16;
  std::vector<double> shares;
  for (const bool down : {true, false}) {
    std::vector<bool> inside(from.size(), false);
    for (int part = 1; part < parts; ++part) {
      const double share = static_cast<double>(part) / parts;
      std::vector<Vec3d> to;
      for (std::size_t i = 0; i < from.size(); ++i) {
        const Vec3d way = down ? Vec3d(-slopes[i].gradient) : ways[i];
        to.push_back(from[i] + share * std::max(slopes[i].value, 0.0) * way.normalized());
      }
      const std::vector<double> values = compiled.distances(to);
      for (std::size_t i = 0; i < from.size(); ++i) {
        if (inside[i] || !(slopes[i].value > least) || !(values[i] < 0)) continue;
        inside[i] = true;
        // Somewhere since the step before.
        shares.push_back(parts / (part - 0.5));
      }
    }
    for (std::size_t i = 0; i < from.size(); ++i) {
      if (!inside[i] && slopes[i].value > least) shares.push_back(1);
    }
  }
  return nearly_worst(std::move(shares));
}

/// By how much the values of a field are more than the distance, at most, in all but one in a
/// thousand of what was tried: a power stretches a few places far more than it says.
double worst_share(const Field& field, std::size_t count) {
  const CompiledField compiled(field);
  Bounds box = field.bounds();
  for (int axis = 0; axis < 3; ++axis) {
    box.low[axis] = std::max(box.low[axis], -1e3);
    box.high[axis] = std::min(box.high[axis], 1e3);
  }
  const double size = 0.5 * (box.high - box.low).maxCoeff();
  const std::vector<Vec3d> from = places_in(box, count, 0x5afe);
  const std::vector<FieldSlope> slopes = compiled.slopes(from);
  // Places all over, and on the way from each to the surface, where most steps are taken.
  std::vector<Vec3d> places;
  std::vector<Vec3d> starts;
  const std::vector<Vec3d> ways = places_in({{-1, -1, -1}, {1, 1, 1}}, 2 * count, 0x17);
  for (std::size_t i = 0; i < count; ++i) {
    if (!std::isfinite(slopes[i].value)) continue;
    const double share = static_cast<double>(i % 4) / 4;
    const Vec3d place = from[i] - share * slopes[i].value * slopes[i].gradient;
    // Straight down, and from places around, where another part of the surface may be nearer.
    for (int way = 0; way < 3; ++way) {
      places.push_back(place);
      starts.push_back(
          way == 0
              ? place
              : Vec3d(place + 0.7 * (1 - share) * std::abs(slopes[i].value) *
                                  ways[2 * i + static_cast<std::size_t>(way) - 1].normalized()));
    }
  }
  const std::vector<double> values = compiled.distances(places);
  WayDown down(compiled, std::move(starts));
  down.go(12);
  down.look();
  // From all around as well, whence lanes come.
  const Vec3d margin = 0.25 * (box.high - box.low);
  const std::vector<Vec3d> around = places_in({box.low - margin, box.high + margin}, count, 0x57e9);
  // What is nearer than this is noise.
  const double least = least_tried * size;
  double worst = std::max(worst_step(compiled, from, slopes, ways, least),
                          worst_step(compiled, around, compiled.slopes(around), ways, least));
  std::vector<double> shares;
  for (std::size_t i = 0; i < places.size(); ++i) {
    const double value = std::abs(values[i]);
    if (!(value > least) || !(std::abs(down.value(i)) < 1e-3 * value)) continue;
    const double distance = (down.at(i) - places[i]).norm() + std::abs(down.value(i));
    shares.push_back(value / distance);
  }
  return std::max(worst, nearly_worst(std::move(shares)));
}

class Measuring {
 public:
  explicit Measuring(std::size_t places) : places_(places) {}

  Field measured(const Field& field) {
    const auto known = known_.find(field.identity());
    if (known != known_.end()) return known->second;
    std::vector<Field> parts;
    bool changed = false;
    for (const Field& part : field.parts()) {
      parts.push_back(measured(part));
      changed = changed || parts.back().identity() != part.identity();
    }
    std::vector<double> numbers = field.numbers();
    const int safety = safety_index(field.kind());
    if (safety >= 0 && numbers[static_cast<std::size_t>(safety)] == 0 && field.estimates()) {
      // A little more than what was found, since not everything was tried.
      numbers[static_cast<std::size_t>(safety)] = std::min(1.1 * worst_share(field, places_), 1e3);
      changed = true;
    }
    Field result = field;
    if (changed) {
      result = Field(field.kind(), std::move(numbers), std::move(parts),
                     folds(field.kind()) ? nullptr : field.source());
      if (field.material() >= 0) result = result.made_of(field.material());
      if (!field.tint().materials.empty()) result = result.tinted(field.tint());
    }
    known_.emplace(field.identity(), result);
    return result;
  }

 private:
  std::size_t places_;
  std::unordered_map<const void*, Field> known_;
};

}  // namespace

Field field::measured(const Field& field, std::size_t places) {
  return Measuring(places).measured(field);
}

}  // namespace photonlane
