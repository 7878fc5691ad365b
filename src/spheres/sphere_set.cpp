#include "photonlane/spheres/sphere_set.hpp"

#include <cstring>

#include "photonlane/base/error.hpp"
#include "spheres/sphere_store.hpp"

namespace photonlane {
namespace {

/// A stretch of what lies in memory.
constexpr std::uint64_t stretch_length = std::uint64_t{1} << 22;

class ListedSpheres final : public SphereSource {
 public:
  explicit ListedSpheres(const std::vector<Sphere>& all) : all_(all) {
    for (const Sphere& sphere : all_) own_ = own_ || sphere.material >= 0;
  }
  void read(std::size_t, const std::function<void(const SphereRun&)>& take) const override {
    SphereRun run;
    for (std::size_t first = 0; first < all_.size(); first += SphereRun::capacity) {
      run.count = std::min(SphereRun::capacity, all_.size() - first);
      for (std::size_t i = 0; i < run.count; ++i) {
        const Sphere& sphere = all_[first + i];
        run.x[i] = sphere.center.x();
        run.y[i] = sphere.center.y();
        run.z[i] = sphere.center.z();
        run.radius[i] = sphere.radius;
        run.material[i] = sphere.material >= 0 ? static_cast<std::uint32_t>(sphere.material)
                                               : SphereStore::no_number;
      }
      take(run);
    }
  }
  bool has_materials() const override { return own_; }

 private:
  const std::vector<Sphere>& all_;
  bool own_ = false;
};

}  // namespace

std::span<const Knob<Sphere>> sphere_knobs() {
  static const Knob<Sphere> table[] = {
      knob<&Sphere::center>("at", "meters", {-farthest_sphere, farthest_sphere},
                            "center of the sphere"),
      knob<&Sphere::radius>("radius", "meters", {0, farthest_sphere, true}, "radius of the sphere"),
  };
  return table;
}

std::string SphereSource::name(std::size_t, std::uint64_t index) const {
  return fmt::format("sphere {}", index);
}

std::size_t StridedSpheres::stretches() const {
  return static_cast<std::size_t>(
      std::max<std::uint64_t>(1, (count + stretch_length - 1) / stretch_length));
}

std::string StridedSpheres::name(std::size_t stretch, std::uint64_t index) const {
  return fmt::format("sphere {}", stretch * stretch_length + index);
}

void StridedSpheres::read(std::size_t stretch,
                          const std::function<void(const SphereRun&)>& take) const {
  const std::uint64_t first = stretch * stretch_length;
  const std::uint64_t last = std::min(count, first + stretch_length);
  const auto* const narrow = reinterpret_cast<const std::byte*>(center);
  const auto* const wide = reinterpret_cast<const std::byte*>(center_wide);
  const auto* const own = reinterpret_cast<const std::byte*>(radii);
  const std::size_t step =
      stride > 0 ? stride : 3 * (wide != nullptr ? sizeof(double) : sizeof(float));
  const std::size_t radius_step = radius_stride > 0 ? radius_stride : sizeof(float);
  SphereRun run;
  for (std::uint64_t at = first; at < last; at += SphereRun::capacity) {
    run.count = static_cast<std::size_t>(std::min<std::uint64_t>(SphereRun::capacity, last - at));
    for (std::size_t i = 0; i < run.count; ++i) {
      if (wide != nullptr) {
        double places[3];
        std::memcpy(places, wide + (at + i) * step, sizeof(places));
        run.x[i] = places[0];
        run.y[i] = places[1];
        run.z[i] = places[2];
      } else {
        float places[3];
        std::memcpy(places, narrow + (at + i) * step, sizeof(places));
        run.x[i] = static_cast<double>(places[0]);
        run.y[i] = static_cast<double>(places[1]);
        run.z[i] = static_cast<double>(places[2]);
      }
      run.radius[i] = radius;
      if (own != nullptr) {
        float value = 0;
        std::memcpy(&value, own + (at + i) * radius_step, sizeof(value));
        run.radius[i] = static_cast<double>(value);
      }
      if (materials != nullptr) run.material[i] = materials[at + i];
      if (colors != nullptr) run.color[i] = colors[at + i];
    }
    take(run);
  }
}

SphereSet::SphereSet(std::shared_ptr<const SphereStore> store) : store_(std::move(store)) {}
SphereSet::~SphereSet() = default;

std::shared_ptr<const SphereSet> SphereSet::make(const std::vector<Sphere>& spheres,
                                                 const SphereSetOptions& options) {
  return make(ListedSpheres(spheres), options);
}

std::uint64_t SphereSet::size() const { return store_->head().count; }
bool SphereSet::exact() const { return store_->head().exact == 1; }
bool SphereSet::has_materials() const { return store_->head().material_bytes > 0; }
bool SphereSet::has_colors() const { return store_->head().color_bytes > 0; }
Bounds SphereSet::bounds() const { return {store_->tree().low, store_->tree().high}; }
double SphereSet::smallest() const { return store_->head().smallest; }
double SphereSet::largest() const { return store_->head().largest; }
double SphereSet::moved() const { return store_->head().moved; }
std::size_t SphereSet::memory_bytes() const { return store_->memory_bytes(); }
std::size_t SphereSet::bytes() const { return store_->arrays().bytes; }
const SphereSetCost& SphereSet::cost() const { return store_->cost; }

std::uint64_t SphereSet::items() const { return exact() ? size() : store_->head().slots(); }
bool SphereSet::is_item(std::uint64_t item) const {
  return item < items() && (exact() || store_->taken(item));
}
Sphere SphereSet::sphere(std::uint64_t item) const {
  if (!is_item(item)) throw Error(ErrorKind::usage, fmt::format("there is no sphere {}", item));
  return store_->sphere_at(store_->slot_of(item));
}
std::uint32_t SphereSet::color(std::uint64_t item) const {
  if (!is_item(item) || !has_colors()) {
    throw Error(ErrorKind::usage, fmt::format("there is no color of a sphere {}", item));
  }
  return store_->color_at(store_->slot_of(item));
}

}  // namespace photonlane
