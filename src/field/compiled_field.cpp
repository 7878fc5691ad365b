#include "photonlane/field/compiled_field.hpp"

#include "field/columns.hpp"

namespace photonlane {

CompiledField::CompiledField(const Field& field, std::uint32_t fallback)
    : field_(field), fallback_(fallback), tape_(std::make_shared<const Tape>(make_tape(field))) {}

double CompiledField::distance(const Vec3d& place) const { return distances({&place, 1}).front(); }
Vec3d CompiledField::gradient(const Vec3d& place) const { return gradients({&place, 1}).front(); }
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

std::size_t CompiledField::distances(const float* x, const float* y, const float* z,
                                     std::size_t count, float* values) const {
  return evaluate_tape(*tape_, FieldPlaces<float>{x, y, z, count}, values);
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
         tape_->constants.size() * (sizeof(double) + sizeof(float));
}

}  // namespace photonlane
