#include "spheres/sphere_survey.hpp"

#include <atomic>
#include <cmath>
#include <limits>

#include "base/parallel.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/random.hpp"
#include "spheres/sphere_tree.hpp"

namespace photonlane {
namespace {

// Of all: some hundreds for each of as many parts as memory holds.
constexpr std::size_t samples_asked = std::size_t{1} << 18;

/// A stretch, and those of its spheres that are samples so far: one of `every`.
struct Stretch {
  SphereSurvey found;
  std::uint64_t every = 1;
  std::vector<std::uint64_t> drawn;  ///< of each sample
};

/// Which ones are samples goes by a mixed index: places may repeat in step with it.
void thin(Stretch& stretch, std::uint64_t every) {
  stretch.every = every;
  std::size_t kept = 0;
  for (std::size_t i = 0; i < stretch.drawn.size(); ++i) {
    if ((stretch.drawn[i] & (every - 1)) != 0) continue;
    stretch.found.samples[kept] = stretch.found.samples[i];
    stretch.drawn[kept++] = stretch.drawn[i];
  }
  stretch.found.samples.resize(kept);
  stretch.drawn.resize(kept);
}

/// Refuses what cannot be; `first` is the index of the run's first in its stretch.
void check(const SphereSource& source, std::size_t stretch, std::uint64_t first,
           const SphereRun& run) {
  bool fine = true;
  for (std::size_t i = 0; i < run.count; ++i) {
    // Comparisons with what is no number are false.
    fine = fine && std::abs(run.x[i]) <= farthest_sphere && std::abs(run.y[i]) <= farthest_sphere &&
           std::abs(run.z[i]) <= farthest_sphere && run.radius[i] >= 0 &&
           run.radius[i] <= farthest_sphere;
  }
  if (source.has_materials()) {
    for (std::size_t i = 0; i < run.count; ++i) fine = fine && run.material[i] <= 0xffff;
  }
  if (fine) return;
  for (std::size_t i = 0; i < run.count; ++i) {
    const auto refuse = [&](const std::string& what) {
      throw Error(ErrorKind::input, fmt::format("{}: {}", source.name(stretch, first + i), what));
    };
    const double at[3] = {run.x[i], run.y[i], run.z[i]};
    for (int axis = 0; axis < 3; ++axis) {
      if (std::abs(at[axis]) <= farthest_sphere) continue;
      refuse(fmt::format("{} is {}, expected -1e6 to 1e6 meters", "xyz"[axis], at[axis]));
    }
    if (!(run.radius[i] >= 0 && run.radius[i] <= farthest_sphere)) {
      refuse(fmt::format("a radius of {}, expected 0 to 1e6 meters", run.radius[i]));
    }
    if (source.has_materials() && run.material[i] > 0xffff) {
      refuse(fmt::format("material {}, expected 0 to 65535", run.material[i]));
    }
  }
}

void add(SphereSurvey& to, const SphereSurvey& part) {
  to.count += part.count;
  to.low = to.low.cwiseMin(part.low);
  to.high = to.high.cwiseMax(part.high);
  to.surface_low = to.surface_low.cwiseMin(part.surface_low);
  to.surface_high = to.surface_high.cwiseMax(part.surface_high);
  to.smallest = std::min(to.smallest, part.smallest);
  to.largest = std::max(to.largest, part.largest);
  to.materials = std::max(to.materials, part.materials);
}

SphereSurvey nothing_yet() {
  const Vec3d infinite = Vec3d::Constant(std::numeric_limits<double>::infinity());
  SphereSurvey survey;
  survey.low = survey.surface_low = infinite;
  survey.high = survey.surface_high = -infinite;
  survey.smallest = infinite.x();
  return survey;
}

void take(const SphereSource& source, const SphereRun& run, SphereSurvey& survey) {
  const double* const at[3] = {run.x, run.y, run.z};
  for (int axis = 0; axis < 3; ++axis) {
    double low = survey.low[axis];
    double high = survey.high[axis];
    double surface_low = survey.surface_low[axis];
    double surface_high = survey.surface_high[axis];
    for (std::size_t i = 0; i < run.count; ++i) {
      low = std::min(low, at[axis][i]);
      high = std::max(high, at[axis][i]);
      surface_low = std::min(surface_low, at[axis][i] - run.radius[i]);
      surface_high = std::max(surface_high, at[axis][i] + run.radius[i]);
    }
    survey.low[axis] = low;
    survey.high[axis] = high;
    survey.surface_low[axis] = surface_low;
    survey.surface_high[axis] = surface_high;
  }
  for (std::size_t i = 0; i < run.count; ++i) {
    survey.smallest = std::min(survey.smallest, run.radius[i]);
    survey.largest = std::max(survey.largest, run.radius[i]);
  }
  if (source.has_materials()) {
    for (std::size_t i = 0; i < run.count; ++i) {
      survey.materials = std::max(survey.materials, run.material[i]);
    }
  }
  survey.count += run.count;
}

void survey_stretch(const SphereSource& source, std::size_t which, std::size_t most_samples,
                    Stretch& stretch) {
  SphereSurvey& found = stretch.found;
  source.read(which, [&](const SphereRun& run) {
    check(source, which, found.count, run);
    for (std::size_t i = 0; i < run.count; ++i) {
      const std::uint64_t drawn = mix(found.count + i + 1);
      if ((drawn & (stretch.every - 1)) != 0) continue;
      found.samples.emplace_back(run.x[i], run.y[i], run.z[i]);
      stretch.drawn.push_back(drawn);
      if (found.samples.size() > most_samples) thin(stretch, stretch.every * 2);
    }
    take(source, run, found);
  });
}

}  // namespace

SphereSurvey survey_spheres(const SphereSource& source, int threads,
                            const std::function<void(double)>& told) {
  std::vector<Stretch> stretches(source.stretches());
  const std::size_t most_samples =
      std::max<std::size_t>(1024, 2 * samples_asked / stretches.size());
  std::atomic<std::size_t> done = 0;
  parallel_for(threads, stretches.size(), [&](std::size_t i) {
    stretches[i].found = nothing_yet();
    survey_stretch(source, i, most_samples, stretches[i]);
    told(static_cast<double>(++done) / static_cast<double>(stretches.size()));
  });
  SphereSurvey all = nothing_yet();
  std::uint64_t every = 1;
  for (const Stretch& one : stretches) every = std::max(every, one.every);
  for (Stretch& one : stretches) {
    add(all, one.found);
    all.stretches.push_back(one.found.count);
    if (one.every < every) thin(one, every);
    all.samples.insert(all.samples.end(), one.found.samples.begin(), one.found.samples.end());
    one = {};
  }
  if (all.count == 0) {
    throw Error(ErrorKind::input, "a set of no spheres, expected one at least");
  }
  return all;
}

}  // namespace photonlane
