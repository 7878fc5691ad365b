#include "photonlane/field/compiled_field.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "field/field_kernel.hpp"
#include "photonlane/base/trigonometry.hpp"

namespace photonlane {
namespace {

/// Places turned into one array a coordinate.
struct Columns {
  std::vector<double> x, y, z;
  explicit Columns(std::span<const Vec3d> places) {
    for (const Vec3d& place : places) {
      x.push_back(place.x());
      y.push_back(place.y());
      z.push_back(place.z());
    }
  }
  explicit Columns(std::size_t count) : x(count), y(count), z(count) {}
  FieldPlaces<double> places() const { return {x.data(), y.data(), z.data(), x.size()}; }
  FieldGradients<double> gradients() { return {x.data(), y.data(), z.data()}; }
  Vec3d at(std::size_t i) const { return {x[i], y[i], z[i]}; }
  void set(std::size_t i, const Vec3d& place) {
    x[i] = place.x();
    y[i] = place.y();
    z[i] = place.z();
  }
};

/// The search for the places of a surface nearest to some places.
class ClosestSearch {
 public:
  ClosestSearch(const Tape& tape, std::span<const Vec3d> places)
      : tape_(tape),
        places_(places),
        at_(places),
        gradients_(places.size()),
        values_(places.size()),
        best_(places.begin(), places.end()),
        least_(places.size(), std::numeric_limits<double>::infinity()) {}

  const std::vector<Vec3d>& best() const { return best_; }
  bool found(std::size_t i) const { return std::isfinite(least_[i]); }

  /// Down to the surface along the gradient, then along the surface toward the place, in turns,
  /// keeping the nearest. On a distance the first step arrives.
  void slide() {
    for (int turn = 0; turn < 60; ++turn) {
      bool moved = false;
      for (int step = 0; step < 3; ++step) {
        ask();
        for (std::size_t i = 0; i < places_.size(); ++i) {
          const Vec3d gradient = gradients_.at(i);
          const double square = gradient.squaredNorm();
          if (!(square > 1e-18)) continue;
          moved = move(i, -values_[i] / std::max(square, 1e-3) * gradient) || moved;
        }
      }
      ask();
      for (std::size_t i = 0; i < places_.size(); ++i) {
        keep(i);
        const Vec3d normal = gradients_.at(i).normalized();
        if (!normal.allFinite()) continue;
        const Vec3d toward = places_[i] - at_.at(i);
        moved = move(i, 0.5 * (toward - toward.dot(normal) * normal)) || moved;
      }
      if (!moved) return;
    }
  }

  /// Marches from a place every way there is (along a spiral over the ball), and goes on from the
  /// nearest surface.
  void look_around(std::size_t i) {
    constexpr std::size_t ways = 256;
    Columns ends(ways);
    std::vector<double> values(ways);
    std::vector<double> t(ways, 0);
    std::vector<Vec3d> directions;
    for (std::size_t k = 0; k < ways; ++k) {
      const double z = 1 - (2 * static_cast<double>(k) + 1) / ways;
      const SineCosine turn = sine_cosine(2 * pi * 0.38196601125 * static_cast<double>(k));
      const double radius = std::sqrt(1 - z * z);
      directions.emplace_back(radius * turn.cosine, radius * turn.sine, z);
    }
    for (int step = 0; step < 200; ++step) {
      for (std::size_t k = 0; k < ways; ++k) ends.set(k, places_[i] + t[k] * directions[k]);
      evaluate_tape(tape_, ends.places(), values.data());
      for (std::size_t k = 0; k < ways; ++k) t[k] += std::abs(values[k]) / tape_.stretch;
    }
    std::size_t nearest = ways;
    for (std::size_t k = 0; k < ways; ++k) {
      if (std::abs(values[k]) < 1e-6 && (nearest == ways || t[k] < t[nearest])) nearest = k;
    }
    if (nearest == ways) return;
    at_.set(i, ends.at(nearest));
    best_[i] = ends.at(nearest);
    least_[i] = t[nearest];
  }

 private:
  void ask() { differentiate_tape(tape_, at_.places(), values_.data(), gradients_.gradients()); }
  bool move(std::size_t i, const Vec3d& way) {
    if (way.squaredNorm() <= 1e-20) return false;
    at_.set(i, at_.at(i) + way);
    return true;
  }
  void keep(std::size_t i) {
    const double distance = (at_.at(i) - places_[i]).norm();
    if (std::abs(values_[i]) >= 1e-8 || distance >= least_[i] - 1e-12) return;
    least_[i] = distance;
    best_[i] = at_.at(i);
  }

  const Tape& tape_;
  std::span<const Vec3d> places_;
  Columns at_;
  Columns gradients_;
  std::vector<double> values_;
  std::vector<Vec3d> best_;
  std::vector<double> least_;
};

}  // namespace

CompiledField::CompiledField(const Field& field, std::uint32_t fallback)
    : field_(field), fallback_(fallback), tape_(std::make_shared<const Tape>(make_tape(field))) {}

double CompiledField::distance(const Vec3d& place) const { return distances({&place, 1}).front(); }
Vec3d CompiledField::gradient(const Vec3d& place) const { return gradients({&place, 1}).front(); }
Vec3d CompiledField::closest_point(const Vec3d& place) const {
  return closest_points({&place, 1}).front();
}
SurfaceMaterial CompiledField::material(const Vec3d& place) const {
  return materials({&place, 1}).front();
}

std::vector<double> CompiledField::distances(std::span<const Vec3d> places) const {
  const Columns columns(places);
  std::vector<double> values(places.size());
  evaluate_tape(*tape_, columns.places(), values.data());
  return values;
}

std::vector<Vec3d> CompiledField::gradients(std::span<const Vec3d> places) const {
  std::vector<Vec3d> result;
  result.reserve(places.size());
  for (const FieldSlope& slope : slopes(places)) result.push_back(slope.gradient);
  return result;
}

std::vector<FieldSlope> CompiledField::slopes(std::span<const Vec3d> places) const {
  const Columns columns(places);
  Columns gradients(places.size());
  std::vector<double> values(places.size());
  differentiate_tape(*tape_, columns.places(), values.data(), gradients.gradients());
  std::vector<FieldSlope> result;
  result.reserve(places.size());
  for (std::size_t i = 0; i < places.size(); ++i) result.push_back({values[i], gradients.at(i)});
  return result;
}

std::vector<Vec3d> CompiledField::closest_points(std::span<const Vec3d> places) const {
  std::vector<Vec3d> result(places.begin(), places.end());
  std::vector<std::size_t> rest(places.size());
  std::iota(rest.begin(), rest.end(), std::size_t{0});
  if (field_.stretch() <= 1 && !has_estimates()) {
    // Nothing is nearer than the value says: a surface as near as that, straight down, is nearest.
    const std::vector<FieldSlope> down = slopes(places);
    for (std::size_t i = 0; i < places.size(); ++i) {
      result[i] -= down[i].value * down[i].gradient;
    }
    const std::vector<double> left = distances(result);
    std::erase_if(rest, [&](std::size_t i) {
      return std::abs(left[i]) < 1e-10 && down[i].gradient.squaredNorm() < 1 + 1e-9;
    });
  }
  std::vector<Vec3d> from;
  for (const std::size_t i : rest) from.push_back(places[i]);
  if (from.empty()) return result;
  ClosestSearch search(*tape_, from);
  search.slide();
  for (std::size_t i = 0; i < from.size(); ++i) {
    if (!search.found(i)) search.look_around(i);
  }
  search.slide();
  for (std::size_t i = 0; i < from.size(); ++i) result[rest[i]] = search.best()[i];
  return result;
}

std::vector<SurfaceMaterial> CompiledField::materials(std::span<const Vec3d> places) const {
  const Columns columns(places);
  std::vector<std::int32_t> material(places.size());
  std::vector<std::int32_t> other(places.size());
  std::vector<double> share(places.size());
  tape_materials(*tape_, columns.places(),
                 FieldMaterials<double>{material.data(), other.data(), share.data()});
  std::vector<SurfaceMaterial> result;
  for (std::size_t i = 0; i < places.size(); ++i) {
    result.push_back({material[i], other[i], share[i]});
  }
  return result;
}

void CompiledField::distances(const float* x, const float* y, const float* z, std::size_t count,
                              float* values) const {
  evaluate_tape(*tape_, FieldPlaces<float>{x, y, z, count}, values);
}

template <class Number>
HitBatch<Number> CompiledField::march(const LaneBatch<Number>& lanes, const Budget& budget) const {
  HitBatch<Number> hits;
  march_tape(*tape_, lanes, budget.field, hits);
  const auto index = [&](std::uint32_t& which) {
    if (static_cast<std::int32_t>(which) < 0) which = fallback_;
  };
  std::fill_n(hits.item, lanes.size, no_item);
  std::copy_n(hits.t, lanes.size, hits.exit);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    if (hits.ending[i] == Ending::hit) {
      index(hits.material[i]);
      index(hits.other[i]);
    } else {
      hits.material[i] = 0;
    }
  }
  return hits;
}

HitBatch<float> CompiledField::nearest_hit(const LaneBatch<float>& lanes,
                                           const Budget& budget) const {
  return march(lanes, budget);
}
HitBatch<double> CompiledField::nearest_hit(const LaneBatch<double>& lanes,
                                            const Budget& budget) const {
  return march(lanes, budget);
}

bool CompiledField::has_estimates() const { return !tape_->steady; }

std::size_t CompiledField::instruction_count() const { return tape_->instructions.size(); }

std::size_t CompiledField::memory_bytes() const {
  return tape_->instructions.size() * sizeof(Tape::Instruction) +
         tape_->constants.size() * (sizeof(double) + sizeof(float));
}

}  // namespace photonlane
