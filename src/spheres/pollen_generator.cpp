#include "photonlane/spheres/pollen_generator.hpp"

#include <numbers>

#include "photonlane/base/color.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"

namespace photonlane {
namespace {

constexpr std::int64_t most_count = (std::int64_t{1} << 32) - (std::int64_t{1} << 24);
constexpr std::uint64_t stretch_length = std::uint64_t{1} << 20;
constexpr double turn = 2 * std::numbers::pi;
// Grains that drift together.
constexpr std::uint64_t puff_size = 96;

/// Numbers drawn for one thing.
class Draw {
 public:
  Draw(std::int64_t seed, std::uint32_t kind, std::uint64_t index)
      : key_{.seed = static_cast<std::uint64_t>(seed), .pixel = index, .sample = kind} {}
  double uniform() { return static_cast<double>(random_uniform(key_, dimension_++)); }
  /// Normally distributed, nearly: the sum of four uniform numbers, which has an end.
  double spread() {
    return (uniform() + uniform() + uniform() + uniform() - 2) * std::numbers::sqrt3;
  }

 private:
  RandomKey key_;
  std::uint32_t dimension_ = 0;
};

}  // namespace

std::span<const Knob<PollenRecipe>> pollen_recipe_knobs() {
  static const Knob<PollenRecipe> table[] = {
      knob<&PollenRecipe::count>("count", "", {1, static_cast<double>(most_count)},
                                 "how many grains"),
      knob<&PollenRecipe::seed>("seed", "", {0, 1e15}, "which ones; the same each time"),
      knob<&PollenRecipe::hall>("hall", "meters", {1, 10000},
                                "width, depth and height of the hall they drift in"),
      knob<&PollenRecipe::radius>(
          "radius", "meters", {0, 10},
          "radius of most grains; 0: so that a lane meets as many whatever the count"),
      knob<&PollenRecipe::swirl>("swirl", "", {0, 1}, "share that drifts in the swirl"),
      knob<&PollenRecipe::flowers>("flowers", "", {0, 1}, "share that is close to flowers"),
  };
  return table;
}

PollenSource::PollenSource(const PollenRecipe& recipe) : recipe_(recipe), radius_(recipe.radius) {
  validate_knobs(pollen_recipe_knobs(), recipe_);
  if (recipe_.swirl + recipe_.flowers > 1) {
    throw Error(ErrorKind::input,
                fmt::format("swirl {} and flowers {}, expected shares that add up to 1 at most",
                            recipe_.swirl, recipe_.flowers));
  }
  const Vec3d& hall = recipe_.hall;
  if (radius_ == 0) {
    // Half of all lanes across the hall meet a grain, were they spread evenly.
    const double across = hall.prod() / std::max(hall.x(), hall.y());
    radius_ = std::sqrt(0.7 * across / (std::numbers::pi * static_cast<double>(recipe_.count)));
  }
  for (std::uint64_t i = 0; i < 60; ++i) {
    Draw draw(recipe_.seed, 1, i);
    // Beds along the walls and about the middle.
    const double angle = turn * draw.uniform();
    const double away = draw.uniform() < 0.4 ? 0.16 : 0.42;
    const SineCosine to = sine_cosine(angle);
    const Vec3d place((away + 0.03 * draw.spread()) * hall.x() * to.cosine,
                      (away + 0.03 * draw.spread()) * hall.y() * to.sine,
                      (0.03 + 0.12 * draw.uniform()) * hall.z());
    flowers_.push_back({place, (0.01 + 0.03 * draw.uniform()) * hall.x(), draw.uniform()});
  }
}

std::size_t PollenSource::stretches() const {
  return static_cast<std::size_t>((static_cast<std::uint64_t>(recipe_.count) + stretch_length - 1) /
                                  stretch_length);
}

void PollenSource::read(std::size_t stretch,
                        const std::function<void(const SphereRun&)>& take) const {
  const std::uint64_t first = stretch * stretch_length;
  const std::uint64_t last =
      std::min(static_cast<std::uint64_t>(recipe_.count), first + stretch_length);
  const Vec3d& hall = recipe_.hall;
  // By how golden it is: pale green, gold, amber.
  std::uint32_t colors[256];
  for (int i = 0; i < 256; ++i) {
    const float share = static_cast<float>(i) / 255;
    colors[i] = color_code(
        color_from_lightness(0.88f - 0.22f * share, 0.06f + 0.12f * share, 112.0f - 52.0f * share));
  }
  SphereRun run;
  run.count = 0;
  Vec3d middle(0, 0, 0);
  Vec3d wide(0, 0, 0);
  double gold = 0;
  for (std::uint64_t i = first; i < last; ++i) {
    if (i == first || i % puff_size == 0) {
      Draw puff(recipe_.seed, 2, i / puff_size);
      const double kind = puff.uniform();
      if (kind < recipe_.swirl) {
        // Two arms that wind about the middle and rise, thinner toward their ends.
        const double along = std::sqrt(puff.uniform());
        const double arm = puff.uniform() < 0.5 ? 0 : 0.5;
        const double angle = turn * (1.35 * along + arm + 0.035 * puff.spread());
        const double away = 0.05 + 0.4 * along;
        const SineCosine to = sine_cosine(angle);
        middle = Vec3d((away + 0.02 * puff.spread()) * hall.x() * to.cosine,
                       (away + 0.02 * puff.spread()) * hall.y() * to.sine,
                       (0.72 - 0.5 * along + 0.05 * puff.spread()) * hall.z());
        wide = Vec3d(0.012, 0.012, 0.008) * hall.x() * (0.4 + along);
        gold = 0.35 + 0.5 * along;
      } else if (kind < recipe_.swirl + recipe_.flowers) {
        const Flower& flower = flowers_[static_cast<std::size_t>(puff.uniform() * 60)];
        const Vec3d off(puff.spread(), puff.spread(), std::abs(puff.spread()) * 1.6);
        middle = flower.place + flower.spread * off;
        wide = Vec3d::Constant(0.3 * flower.spread);
        gold = 0.1 + 0.9 * flower.hue;
      } else {
        middle =
            Vec3d(puff.uniform() - 0.5, puff.uniform() - 0.5, puff.uniform()).cwiseProduct(hall);
        wide = 0.04 * hall;
        gold = 0.4;
      }
    }
    Draw grain(recipe_.seed, 3, i);
    const Vec3d off(grain.spread(), grain.spread(), grain.spread());
    Vec3d place = middle + wide.cwiseProduct(off);
    // Walls, floor and roof hold them.
    const Vec3d low(-0.5 * hall.x(), -0.5 * hall.y(), 0);
    const Vec3d high(0.5 * hall.x(), 0.5 * hall.y(), hall.z());
    place = place.cwiseMax(low).cwiseMin(high);
    run.x[run.count] = place.x();
    run.y[run.count] = place.y();
    run.z[run.count] = place.z();
    const double size = grain.uniform();
    run.radius[run.count] = radius_ * (0.75 + 0.4 * size + 0.35 * size * size * size);
    const double tone = gold + 0.25 * (grain.uniform() - 0.5);
    run.color[run.count] = colors[static_cast<int>(255 * std::clamp(tone, 0.0, 1.0))];
    if (++run.count < SphereRun::capacity && i + 1 < last) continue;
    take(run);
    run.count = 0;
  }
}

}  // namespace photonlane
