#include "photonlane/field/compiled_field.hpp"

#include <algorithm>
#include <cmath>

#include "base/stage_clock.hpp"
#include "field/columns.hpp"
#include "field/lane_order.hpp"
#include "field/place_lanes.hpp"
#include "field/place_tree.hpp"

namespace photonlane {
namespace {

/// Of fewer instructions the cones and slices of whole batches leave as little.
constexpr std::size_t least_by_place = 40;

bool goes_by_place(const FieldBudget& budget, const Tape& tape) {
  return budget.pruning && budget.place_memory > 0 && tape.instructions.size() >= least_by_place;
}

/// Whether neighbors in a batch keep near one another on their way, beside how far shapes are
/// apart: then their common slices leave as little of the field as places do, and cost less.
template <class Number>
bool keeps_together(const LaneBatch<Number>& lanes, const PlaceTree& tree) {
  if (lanes.together) return true;
  if (lanes.size < LaneBatch<Number>::capacity / 4) return false;
  const Number* rows[6] = {lanes.x,           lanes.y,           lanes.z,
                           lanes.direction_x, lanes.direction_y, lanes.direction_z};
  const double reach = std::min(0.25 * tree.extent(), static_cast<double>(lanes.far_limit));
  double sum = 0;
  std::size_t clusters = 0;
  for (std::size_t first = 0; first < lanes.size; first += cluster_lanes, ++clusters) {
    // Some of the lanes tell.
    const std::size_t end = std::min(first + cluster_lanes, lanes.size);
    double square[2] = {0, 0};
    for (int row = 0; row < 6; ++row) {
      Number low = rows[row][first];
      Number high = low;
      for (std::size_t i = first + 5; i < end; i += 5) {
        low = std::min(low, rows[row][i]);
        high = std::max(high, rows[row][i]);
      }
      const double wide = static_cast<double>(high) - static_cast<double>(low);
      square[row / 3] += wide * wide;
    }
    sum += std::sqrt(square[0]) + reach * std::sqrt(square[1]);
  }
  // Found by trying, of frames of 30 to 3000 shapes and the demo scenes.
  constexpr double share = 0.2;
  return sum < share * tree.spacing() * static_cast<double>(clusters);
}

}  // namespace

CompiledField::CompiledField(const Field& field, std::uint32_t fallback)
    : field_(field),
      fallback_(fallback),
      tape_(std::make_shared<const Tape>(make_tape(field))),
      places_(std::make_shared<PlaceTrees>()) {}

double CompiledField::distance(const Vec3d& place) const { return distances({&place, 1}).front(); }
Vec3d CompiledField::gradient(const Vec3d& place) const { return gradients({&place, 1}).front(); }
SurfaceMaterial CompiledField::material(const Vec3d& place) const {
  return materials({&place, 1}).front();
}

std::vector<double> CompiledField::distances(std::span<const Vec3d> places) const {
  const Columns columns(places);
  std::vector<double> values(places.size());
  const FieldPlaces<double> at = columns.places();
  values_at(at.x, at.y, at.z, at.count, values.data(), FieldBudget{});
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

template <class Number>
std::size_t CompiledField::values_at(const Number* x, const Number* y, const Number* z,
                                     std::size_t count, Number* values,
                                     const FieldBudget& budget) const {
  const FieldPlaces<Number> places{x, y, z, count};
  const StageScope stage(Work::march, count);
  if (!goes_by_place(budget, *tape_)) return evaluate_tape(*tape_, places, values);
  const std::shared_ptr<PlaceTree> tree =
      places_->tree<Number>(*tape_, field_, budget.place_memory);
  return evaluate_by_place(*tape_, *tree, places, values);
}

std::size_t CompiledField::distances(const float* x, const float* y, const float* z,
                                     std::size_t count, float* values,
                                     const FieldBudget& budget) const {
  return values_at(x, y, z, count, values, budget);
}

template <class Number>
void CompiledField::march(std::span<const LaneBatch<Number>* const> lanes, const Budget& budget,
                          std::span<HitBatch<Number>* const> hits) const {
  if (lanes.empty()) return;
  std::size_t all = 0;
  for (const LaneBatch<Number>* batch : lanes) all += batch->size;
  const StageScope stage(Work::march, all);
  // Detail is left out by how far lanes went.
  const bool whole = lanes.front()->spread * budget.field.detail == 0;
  if (whole && goes_by_place(budget.field, *tape_)) {
    const std::shared_ptr<PlaceTree> tree =
        places_->tree<Number>(*tape_, field_, budget.field.place_memory);
    constexpr std::size_t most = PlaceLanes<Number>::most / LaneBatch<Number>::capacity;
    const LaneBatch<Number>* from[most];
    HitBatch<Number>* to[most];
    std::size_t count = 0;
    const auto march_some = [&] {
      if (count > 0)
        march_by_place<Number>(*tape_, *tree, {from, count}, budget.field, {to, count});
      count = 0;
    };
    for (std::size_t i = 0; i < lanes.size(); ++i) {
      if (keeps_together(*lanes[i], *tree)) {
        march_tape(*tape_, *lanes[i], budget.field, *hits[i]);
        continue;
      }
      from[count] = lanes[i];
      to[count] = hits[i];
      if (++count == most) march_some();
    }
    march_some();
  } else {
    for (std::size_t i = 0; i < lanes.size(); ++i) {
      march_tape(*tape_, *lanes[i], budget.field, *hits[i]);
    }
  }
  const auto index = [&](std::uint32_t& which) {
    if (static_cast<std::int32_t>(which) < 0) which = fallback_;
  };
  for (std::size_t b = 0; b < lanes.size(); ++b) {
    HitBatch<Number>& own = *hits[b];
    const std::size_t size = lanes[b]->size;
    std::uint64_t evaluations = 0;
    for (std::size_t i = 0; i < size; ++i) evaluations += own.evaluations[i];
    count_evaluations(evaluations);
    std::fill_n(own.item, size, no_item);
    std::copy_n(own.t, size, own.exit);
    for (std::size_t i = 0; i < size; ++i) {
      if (own.ending[i] == Ending::hit) {
        index(own.material[i]);
        index(own.other[i]);
      } else {
        own.material[i] = 0;
      }
    }
  }
}

template <class Number>
HitBatch<Number> CompiledField::march(const LaneBatch<Number>& lanes, const Budget& budget) const {
  HitBatch<Number> hits;
  const LaneBatch<Number>* const batch = &lanes;
  HitBatch<Number>* const own = &hits;
  march<Number>({&batch, 1}, budget, {&own, 1});
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
void CompiledField::nearest_hits(std::span<const LaneBatch<float>* const> lanes,
                                 const Budget& budget,
                                 std::span<HitBatch<float>* const> hits) const {
  march<float>(lanes, budget, hits);
}
void CompiledField::nearest_hits(std::span<const LaneBatch<double>* const> lanes,
                                 const Budget& budget,
                                 std::span<HitBatch<double>* const> hits) const {
  march<double>(lanes, budget, hits);
}

bool CompiledField::gains_by_company() const {
  return tape_->instructions.size() >= least_by_place;
}

bool CompiledField::has_estimates() const { return !tape_->steady; }

std::size_t CompiledField::instruction_count() const { return tape_->instructions.size(); }

void CompiledField::measure(const DistanceBatch& batch) const {
  std::vector<Vec3d> places(batch.count);
  for (std::size_t i = 0; i < batch.count; ++i) places[i] = {batch.x[i], batch.y[i], batch.z[i]};
  const double share = 1 / field_.stretch();
  if (batch.slope_x != nullptr) {
    const std::vector<FieldSlope> found = slopes(places);
    for (std::size_t i = 0; i < batch.count; ++i) {
      batch.value[i] = share * found[i].value;
      batch.slope_x[i] = share * found[i].gradient.x();
      batch.slope_y[i] = share * found[i].gradient.y();
      batch.slope_z[i] = share * found[i].gradient.z();
    }
  } else {
    const std::vector<double> found = distances(places);
    for (std::size_t i = 0; i < batch.count; ++i) batch.value[i] = share * found[i];
  }
  if (batch.material == nullptr) return;
  const std::vector<SurfaceMaterial> made = materials(places);
  for (std::size_t i = 0; i < batch.count; ++i) {
    const int material = made[i].material;
    batch.material[i] = material >= 0 ? static_cast<std::uint32_t>(material) : fallback_;
  }
}

std::optional<ClosestSurface> CompiledField::closest(const Vec3d& place) const {
  return closest_surface(place);
}

std::string CompiledField::summary() const {
  return fmt::format("field of {} operations", instruction_count());
}

std::size_t CompiledField::memory_bytes() const {
  return tape_->instructions.size() * sizeof(Tape::Instruction) +
         tape_->constants.size() * (sizeof(double) + sizeof(float)) + places_->bytes();
}

}  // namespace photonlane
