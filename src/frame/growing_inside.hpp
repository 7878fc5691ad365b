#pragma once

#include <mutex>
#include <optional>
#include <vector>

#include "frame/job.hpp"
#include "paths/path_tracer.hpp"
#include "photonlane/frame/growing_frame.hpp"

namespace photonlane {

/// Pixels of a growing frame that get samples together, across and down.
inline constexpr int cell_side = 8;

/// What is told of a pixel beside its color, in floats.
inline constexpr std::size_t told_light = 3 * told_bounces;
inline constexpr std::size_t told_emission = told_light;
inline constexpr std::size_t told_albedo = told_emission + 3;
inline constexpr std::size_t told_count = told_albedo + 4;

struct GrowingFrame::Inside {
  Inside(World its_world, Camera its_camera, const Budget& its_budget, GrowingOptions its_options);

  bool tells() const { return options.tell || budget.frame.denoise > 0; }
  std::size_t count() const {
    return static_cast<std::size_t>(gathered.part.size.width) *
           static_cast<std::size_t>(gathered.part.size.height);
  }
  int groups_across() const;
  std::size_t groups() const;
  std::size_t cell(int column, int row) const {
    return static_cast<std::size_t>(row) * cells_across + column;
  }
  std::size_t cell_of_pixel(int x, int y) const { return cell(x / cell_side, y / cell_side); }
  std::uint32_t samples_of(std::size_t pixel) const {
    const int width = gathered.part.size.width;
    const auto i = static_cast<int>(pixel);
    return gathered.samples[cell_of_pixel(i % width, i / width)];
  }
  double mean_samples() const;
  /// The number of each pixel's first sample: other frames may have taken those before.
  std::uint32_t first_sample() const {
    const bool open = budget.frame.sequence == SampleSequence::open;
    return open ? static_cast<std::uint32_t>(budget.frame.first) : 0;
  }

  /// Pixels of a cell that lie in the part.
  int pixels_in(int column, int row) const {
    const int width = std::min(cell_side, gathered.part.size.width - column * cell_side);
    const int height = std::min(cell_side, gathered.part.size.height - row * cell_side);
    return width * height;
  }

  void aim(std::size_t group, const std::vector<std::uint32_t>& until,
           std::vector<PathStart>& starts, std::vector<std::uint32_t>& pixels) const;
  bool add_sample(std::size_t group, const std::vector<std::uint32_t>& until);
  void take_in(const PathResults& results, const std::vector<PathStart>& starts,
               const std::vector<std::uint32_t>& pixels, const StageReading& reading);
  void take_until(const std::vector<std::uint32_t>& until,
                  const std::function<bool(double)>& progress);
  std::vector<std::uint32_t> plan(double to) const;
  void start_round();
  Color mean_of(std::size_t pixel, std::uint32_t samples, int half) const;
  float squared_error(std::size_t pixel, std::uint32_t samples, float exposure) const;
  std::vector<float> pixel_errors(double exposure) const;
  double exposure() const;
  GrowingError error(double exposure) const;
  /// Throws where a picture asks for what was not told.
  void check_asked(LayerSet layers) const;
  /// What is seen without bounces: these layers, and those that the filter goes by.
  std::optional<Frame> straight_frame(LayerSet layers, std::optional<PixelPart> part) const;
  /// The mean radiance of each pixel, and its variance.
  void means(std::vector<Color>& light, std::vector<float>& variance) const;
  /// Filters the light that did not come straight.
  void filter(const Frame& guides, const std::vector<float>& variance,
              std::vector<Color>& light) const;
  /// What paths told of one pixel, as layers of a frame.
  void put_told(std::size_t pixel, int x, int y, Frame& frame) const;

  World world;
  Camera camera;
  Budget budget;
  GrowingOptions options;
  SceneView view;
  PathScene scene;
  Viewing seen;
  int cells_across = 0, cells_down = 0;
  GatheredLight gathered;
  std::vector<float> told;
  std::vector<float> meters;  ///< ticks and work of each pixel
  StageSum stages;
  std::mutex adding;
};

}  // namespace photonlane
