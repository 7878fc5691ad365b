#pragma once

#include <fmt/format.h>

#include <chrono>
#include <functional>
#include <string>
#include <vector>

#include "photonlane/measure/statistics.hpp"
#include "photonlane/photonlane.hpp"

namespace photonlane::bench {

inline double milliseconds(const std::function<void()>& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - start)
      .count();
}

struct Race {
  std::string name;
  double ratio = 0;
  double spread = 0;
  double bar = 0;
  std::string ours, theirs;  ///< what was timed, with its median
  bool passed() const { return ratio >= bar; }
};

/// Each round times every runner once, in turn; the ratio is the median over rounds of theirs /
/// ours, so that a slow moment of the machine falls on both.
struct Runner {
  std::string name;
  std::function<void()> work;
  std::vector<double> times;
};

inline void run_rounds(std::vector<Runner>& runners, int rounds) {
  for (int round = -2; round < rounds; ++round) {
    for (std::size_t i = 0; i < runners.size(); ++i) {
      Runner& runner = runners[(i + static_cast<std::size_t>(round + 2)) % runners.size()];
      const double time = milliseconds(runner.work);
      if (round >= 0) runner.times.push_back(time);
    }
  }
}

inline Race race(const std::string& name, const Runner& ours, const Runner& theirs, double bar) {
  std::vector<double> ratios;
  for (std::size_t i = 0; i < ours.times.size(); ++i) {
    ratios.push_back(theirs.times[i] / ours.times[i]);
  }
  const Statistics ratio = summarize(ratios);
  const auto told = [](const Runner& runner) {
    return fmt::format("{} {:.3f} ms", runner.name, summarize(runner.times).median);
  };
  return {name, ratio.median, ratio.spread, bar, told(ours), told(theirs)};
}

/// A frame of a world, made again and again, of one layer.
struct Look {
  World world;
  Camera camera;
  Budget budget;
  Layer layer = Layer::color;
  Frame kept{};

  void operator()() {
    kept = render(world, camera, budget,
                  {.layers = {layer}, .threads = 1, .progress = {}, .recycle = std::move(kept)});
  }
};

/// The races of fields whose names hold `wanted`.
void race_fields(const std::string& wanted, std::vector<Race>& races);
void race_folds(const std::string& wanted, std::vector<Race>& races);
void race_planes(const std::string& wanted, std::vector<Race>& races);
/// Prints what lanes cost, by kind; only where it is asked for by name.
void race_lanes(const std::string& wanted, std::vector<Race>& races);
void race_paths(const std::string& wanted, std::vector<Race>& races);
void race_plates(const std::string& wanted, std::vector<Race>& races);
void race_rooms(const std::string& wanted, std::vector<Race>& races);
/// Asked for as "some spheres" or "large spheres", a table by size too.
void race_spheres(const std::string& wanted, std::vector<Race>& races);
/// Asked for as "large voxels", land of 2048 cells a side too.
void race_voxels(const std::string& wanted, std::vector<Race>& races);

}  // namespace photonlane::bench
