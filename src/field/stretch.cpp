#include "photonlane/field/stretch.hpp"

#include <algorithm>
#include <cmath>

#include "field/fold_source.hpp"
#include "field/scatter.hpp"

namespace photonlane {
namespace {

/// Looks for parts that say less than they do.
class FaultSearch {
 public:
  explicit FaultSearch(std::size_t places) : count_(places) {}

  /// True where there is one in the field or in its parts.
  bool look(const Field& field, const std::string& above) {
    if (std::find(seen_.begin(), seen_.end(), field.identity()) != seen_.end()) return false;
    seen_.push_back(field.identity());
    std::string name = above + std::string(name_of(field.kind()));
    if (field.source() != nullptr && field.source()->name() != name_of(field.kind())) {
      name += " " + field.source()->name();
    }
    bool found = false;
    for (const Field& part : field.parts()) found = look(part, name + " > ") || found;
    if (found || seen_.size() > most_parts) return found;
    return try_steps(field, name) ||
           (field.source() != nullptr && field.source()->steady() && try_slopes(field, name));
  }

  std::vector<StretchFault> take() { return std::move(faults_); }

 private:
  static constexpr std::size_t most_parts = 2000;

  static Bounds around(const Field& field) {
    Bounds box = field.bounds();
    for (int axis = 0; axis < 3; ++axis) {
      const double low = std::max(box.low[axis], -20.0);
      const double high = std::max(std::min(box.high[axis], 20.0), low);
      const double margin = 0.25 * (high - low) + 0.1;
      box.low[axis] = low - margin;
      box.high[axis] = high + margin;
    }
    return box;
  }

  /// Safe steps from places outside, straight down the gradient and any way: none may end inside.
  bool try_steps(const Field& field, const std::string& name) {
    const CompiledField compiled(field);
    const Bounds box = around(field);
    const std::vector<Vec3d> from = places_in(box, count_, 0x57e9);
    const double least =
        compiled.has_estimates() ? 0.5 * least_tried * (box.high - box.low).maxCoeff() : 0;
    const std::vector<double> values = compiled.distances(from);
    const std::vector<Vec3d> gradients = compiled.gradients(from);
    for (const bool down : {true, false}) {
      std::vector<Vec3d> ways;
      std::vector<Vec3d> to;
      for (std::size_t i = 0; i < count_; ++i) {
        Vec3d way = places_in({{-1, -1, -1}, {1, 1, 1}}, 1, i).front();
        if (down && gradients[i].norm() > 1e-9) way = -gradients[i];
        ways.push_back(way.normalized());
        to.push_back(from[i] + std::max(values[i], 0.0) / field.stretch() * ways.back());
      }
      const std::vector<double> after = compiled.distances(to);
      std::size_t worst = count_;
      std::size_t tried = 0;
      std::size_t bad = 0;
      for (std::size_t i = 0; i < count_; ++i) {
        tried += values[i] > least;
        if (!(values[i] > least) || !(after[i] < -1e-6 * (1 + from[i].norm()))) continue;
        ++bad;
        if (worst == count_ || after[i] < after[worst]) worst = i;
      }
      // Of estimates some may, one in some hundreds.
      if (worst == count_ || (compiled.has_estimates() && 300 * bad < tried)) continue;
      // Where between the two the surface is.
      double low = 0;
      double high = values[worst] / field.stretch();
      for (int turn = 0; turn < 40; ++turn) {
        const double middle = 0.5 * (low + high);
        (compiled.distance(from[worst] + middle * ways[worst]) > 0 ? low : high) = middle;
      }
      faults_.push_back(
          {name, field.stretch(), values[worst] / std::max(high, 1e-12), from[worst]});
      return true;
    }
    return false;
  }

  /// Neighboring places, far and near.
  bool try_slopes(const Field& field, const std::string& name) {
    const CompiledField compiled(field);
    const Bounds box = around(field);
    const double size = (box.high - box.low).norm();
    const std::vector<Vec3d> from = places_in(box, count_, 0x57e9);
    const std::vector<double> values = compiled.distances(from);
    StretchFault worst{name, field.stretch(), field.stretch() * (1 + 1e-3), {0, 0, 0}};
    bool found = false;
    for (const double reach : {1e-1, 1e-2, 1e-3}) {
      std::vector<Vec3d> to;
      for (std::size_t i = 0; i < count_; ++i) {
        const Vec3d way = places_in({{-1, -1, -1}, {1, 1, 1}}, 1, i + count_).front();
        to.push_back(from[i] + reach * size * way.normalized());
      }
      const std::vector<double> after = compiled.distances(to);
      for (std::size_t i = 0; i < count_; ++i) {
        const double slope = std::abs(after[i] - values[i]) / (reach * size);
        if (!(slope > worst.found)) continue;
        worst.found = slope;
        worst.place = from[i];
        found = true;
      }
    }
    if (found) faults_.push_back(worst);
    return found;
  }

  std::size_t count_;
  std::vector<const void*> seen_;
  std::vector<StretchFault> faults_;
};

void add_estimates(const Field& field, const std::string& above, std::vector<FieldEstimate>& to) {
  const std::string name = above + std::string(name_of(field.kind()));
  if (field.estimates()) to.push_back({name, field.source()->stretch()});
  for (const Field& part : field.parts()) add_estimates(part, name + " > ", to);
}

}  // namespace

std::vector<FieldEstimate> find_estimates(const Field& field) {
  std::vector<FieldEstimate> estimates;
  add_estimates(field, "", estimates);
  return estimates;
}

std::vector<StretchFault> find_stretch_faults(const Field& field, std::size_t places) {
  FaultSearch search(places);
  search.look(field, "");
  return search.take();
}

}  // namespace photonlane
