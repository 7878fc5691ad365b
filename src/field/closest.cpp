#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "field/columns.hpp"
#include "photonlane/field/compiled_field.hpp"

namespace photonlane {
namespace {

/// Places on their way to a surface, each toward the one nearest to a place of its own.
class Slides {
 public:
  Slides(const Tape& tape, std::vector<Vec3d> targets, std::span<const Vec3d> from)
      : tape_(tape),
        targets_(std::move(targets)),
        at_(from),
        gradients_(from.size()),
        values_(from.size()),
        best_(from.begin(), from.end()),
        least_(from.size(), std::numeric_limits<double>::infinity()),
        share_(from.size(), 0.5) {}

  const Vec3d& best(std::size_t i) const { return best_[i]; }
  /// How far that is from its target; infinite where no surface was found.
  double least(std::size_t i) const { return least_[i]; }

  /// Down to the surface along the gradient, then along the surface toward the target, in turns.
  /// Where a slide led no nearer, it was too long for how the surface is curved: from the best
  /// place again, half as far.
  void go(int turns) {
    for (int turn = 0; turn < turns; ++turn) {
      for (int step = 0; step < 4; ++step) {
        ask();
        for (std::size_t i = 0; i < at_.x.size(); ++i) {
          const Vec3d gradient = gradients_.at(i);
          const double square = gradient.squaredNorm();
          if (square > 1e-18)
            at_.set(i, at_.at(i) - values_[i] / std::max(square, 1e-3) * gradient);
        }
      }
      ask();
      bool moved = false;
      for (std::size_t i = 0; i < at_.x.size(); ++i) moved = slide(i) || moved;
      if (!moved) return;
    }
  }

 private:
  void ask() { differentiate_tape(tape_, at_.places(), values_.data(), gradients_.gradients()); }

  bool slide(std::size_t i) {
    const double distance = (at_.at(i) - targets_[i]).norm();
    const double there = 1e-9 * (1 + distance);
    if (std::abs(values_[i]) < there && distance < least_[i]) {
      least_[i] = distance;
      best_[i] = at_.at(i);
      normal_of_best(i);
      share_[i] = std::min(1.0, 1.5 * share_[i]);
    } else {
      if (!std::isfinite(least_[i])) return std::isfinite(distance);  // not there yet
      share_[i] *= 0.5;
      if (share_[i] < 1e-6) return false;
      at_.set(i, best_[i]);
    }
    const Vec3d toward = targets_[i] - best_[i];
    const Vec3d along = toward - toward.dot(normals_[i]) * normals_[i];
    if (!(along.norm() > 1e-10 * (1 + distance))) return false;
    at_.set(i, best_[i] + share_[i] * along);
    return true;
  }
  void normal_of_best(std::size_t i) {
    if (normals_.empty()) normals_.resize(best_.size(), Vec3d(0, 0, 0));
    const Vec3d normal = gradients_.at(i).normalized();
    normals_[i] = normal.allFinite() ? normal : Vec3d(0, 0, 0);
  }

  const Tape& tape_;
  std::vector<Vec3d> targets_;
  Columns at_;
  Columns gradients_;
  std::vector<double> values_;
  std::vector<Vec3d> best_, normals_;
  std::vector<double> least_;
  std::vector<double> share_;
};

/// Cubes that a surface may be in, told by how fast values change at most: from one around a place
/// on, each divided by eight, leaving out those that are empty and those that are farther than what
/// was found (Land and Doig, "An Automatic Method of Solving Discrete Programming Problems", 1960).
class CubeSearch {
 public:
  CubeSearch(const Tape& tape, const Vec3d& place, const Vec3d& found, double distance)
      : tape_(tape), place_(place), best_{found, distance, 0} {}

  ClosestSurface run() {
    // What was found tells how far there is to look; else ever farther, as far as surfaces may be.
    if (std::isfinite(best_.distance)) {
      best_.least = look(best_.distance) ? least_open_ : best_.distance;
      best_.least = std::min(best_.least, best_.distance);
      return best_;
    }
    double reach = std::max(1e-3, 2 * std::abs(value_at(place_)) / tape_.stretch);
    const double farthest = farthest_corner();
    for (; !std::isfinite(best_.distance); reach *= 4) {
      const bool open = look(std::min(reach, farthest));
      if (std::isfinite(best_.distance)) {
        best_.least = open ? std::min(least_open_, best_.distance) : best_.distance;
        return best_;
      }
      if (reach >= farthest) break;
    }
    best_.least = std::min(reach, farthest);
    return best_;
  }

 private:
  /// Beyond that places of doubles are too far apart to be searched.
  static constexpr double out_of_reach = 1e7;
  static constexpr std::size_t most_cubes = std::size_t{1} << 15;

  double value_at(const Vec3d& place) const {
    const Columns one(std::span(&place, 1));
    double value = 0;
    evaluate_tape(tape_, one.places(), &value);
    return value;
  }
  double farthest_corner() const {
    const Bounds& bounds = tape_.bounds;
    if (!bounds.finite()) return out_of_reach;
    const Vec3d far = (bounds.high - place_).cwiseAbs().cwiseMax((bounds.low - place_).cwiseAbs());
    return std::min(out_of_reach, far.norm() * (1 + 1e-9));
  }

  /// Within so far; true where cubes are left that may hold something nearer than was found.
  bool look(double reach) {
    // The box that is looked through: around the place, and where the field is.
    Vec3d low = place_ - Vec3d::Constant(reach);
    Vec3d high = place_ + Vec3d::Constant(reach);
    if (tape_.bounds.finite()) {
      const Vec3d margin = Vec3d::Constant(1e-9 * (1 + reach));
      low = low.cwiseMax(tape_.bounds.low - margin);
      high = high.cwiseMin(tape_.bounds.high + margin);
      if ((high - low).minCoeff() < 0) return false;
    }
    Vec3d half = 0.5 * (high - low);
    std::vector<Vec3d> open{0.5 * (low + high)};
    const auto nearest = [&](const Vec3d& middle) {
      return ((middle - place_).cwiseAbs() - half).cwiseMax(0.0).norm();
    };
    for (int level = 0; level < 40; ++level) {
      std::vector<double> values(open.size());
      const Columns columns{std::span<const Vec3d>(open)};
      evaluate_tape(tape_, columns.places(), values.data());
      const double radius = half.norm() * tape_.stretch;
      std::vector<std::pair<double, Vec3d>> kept;
      for (std::size_t i = 0; i < open.size(); ++i) {
        if (std::abs(values[i]) > radius * (1 + 1e-9)) continue;
        if (nearest(open[i]) >= enough()) continue;
        kept.emplace_back(nearest(open[i]), open[i]);
      }
      if (kept.empty()) return false;
      std::sort(kept.begin(), kept.end(),
                [](const auto& a, const auto& b) { return a.first < b.first; });
      least_open_ = kept.front().first;
      std::vector<Vec3d> from;
      for (std::size_t i = 0; i < kept.size() && i < 16; ++i) from.push_back(kept[i].second);
      improve(from, 6);
      const bool fine = half.maxCoeff() < 1e-3 * std::min(best_.distance, reach);
      if (fine || kept.size() * 8 > most_cubes) {
        from.clear();
        for (std::size_t i = 0; i < kept.size() && i < 256; ++i) from.push_back(kept[i].second);
        improve(from, 30);
        return least_open_ < best_.distance;
      }
      half *= 0.5;
      open.clear();
      for (const auto& [distance, middle] : kept) {
        if (distance >= enough()) break;
        for (int part = 0; part < 8; ++part) {
          const Vec3d sign((part & 1) != 0 ? 1 : -1, (part & 2) != 0 ? 1 : -1,
                           (part & 4) != 0 ? 1 : -1);
          const Vec3d at = middle + half.cwiseProduct(sign);
          if (nearest(at) < enough()) open.push_back(at);
        }
      }
      if (open.empty()) return false;
    }
    return true;
  }
  /// Nothing is looked for that would be nearer by less.
  double enough() const { return best_.distance * (1 - 1e-9); }

  void improve(const std::vector<Vec3d>& from, int turns) {
    Slides slides(tape_, std::vector<Vec3d>(from.size(), place_), from);
    slides.go(turns);
    for (std::size_t i = 0; i < from.size(); ++i) {
      if (slides.least(i) >= best_.distance) continue;
      best_.place = slides.best(i);
      best_.distance = slides.least(i);
    }
  }

  const Tape& tape_;
  const Vec3d place_;
  ClosestSurface best_;
  double least_open_ = 0;
};

}  // namespace

Vec3d CompiledField::closest_point(const Vec3d& place) const {
  return closest_points({&place, 1}).front();
}

std::vector<Vec3d> CompiledField::closest_points(std::span<const Vec3d> places) const {
  std::vector<Vec3d> result;
  result.reserve(places.size());
  for (const ClosestSurface& one : closest_surfaces(places)) {
    if (!std::isfinite(one.distance)) {
      throw Error(
          ErrorKind::input,
          fmt::format("the field has no surface within {:.3g} m of [{:.6g}, {:.6g}, {:.6g}]",
                      one.least, places[result.size()].x(), places[result.size()].y(),
                      places[result.size()].z()));
    }
    result.push_back(one.place);
  }
  return result;
}

ClosestSurface CompiledField::closest_surface(const Vec3d& place) const {
  return closest_surfaces({&place, 1}).front();
}

std::vector<ClosestSurface> CompiledField::closest_surfaces(std::span<const Vec3d> places) const {
  for (const Vec3d& place : places) {
    if (!place.allFinite()) throw Error(ErrorKind::input, "a place that is not finite");
  }
  std::vector<ClosestSurface> result(places.size());
  std::vector<std::size_t> rest(places.size());
  std::iota(rest.begin(), rest.end(), std::size_t{0});
  if (field_.stretch() <= 1 && !has_estimates()) {
    // Nothing is nearer than the value says: a surface as near as that, straight down, is nearest.
    const std::vector<FieldSlope> down = slopes(places);
    std::vector<Vec3d> at;
    for (std::size_t i = 0; i < places.size(); ++i) {
      at.push_back(places[i] - down[i].value * down[i].gradient);
    }
    const std::vector<double> left = distances(at);
    std::erase_if(rest, [&](std::size_t i) {
      if (!(std::abs(left[i]) < 1e-10 && down[i].gradient.squaredNorm() < 1 + 1e-9)) return false;
      const double distance = std::abs(down[i].value);
      result[i] = {at[i], distance, distance};
      return true;
    });
  }
  if (rest.empty()) return result;
  std::vector<Vec3d> from;
  for (const std::size_t i : rest) from.push_back(places[i]);
  Slides slides(*tape_, from, from);
  slides.go(40);
  for (std::size_t k = 0; k < rest.size(); ++k) {
    result[rest[k]] = CubeSearch(*tape_, from[k], slides.best(k), slides.least(k)).run();
  }
  return result;
}

}  // namespace photonlane
