#include "frame/plane_before.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

#include "base/parallel.hpp"

namespace photonlane {
namespace {

/// What four numbers in a row have to do with one between the middle two: by a cubic, and by a
/// line.
struct Weights {
  int first = -1;  ///< of the four; below 0: not all are there
  std::array<float, 4> cubic{};
  float line = 0;  ///< share of the third
};

std::vector<Weights> weights_of(double start, double way, int count, int there) {
  std::vector<Weights> all(static_cast<std::size_t>(count));
  for (int i = 0; i < count; ++i) {
    // Of the middles of pixels, the first is at 0.
    const double at = start + (i + 0.5) * way - 0.5;
    const double low = std::floor(at);
    if (!(low >= 1 && low + 2 < there)) continue;
    const double t = at - low;
    Weights& one = all[static_cast<std::size_t>(i)];
    one.first = static_cast<int>(low) - 1;
    one.cubic = {static_cast<float>(t * (-0.5 + t * (1 - 0.5 * t))),
                 static_cast<float>(1 + t * t * (-2.5 + 1.5 * t)),
                 static_cast<float>(t * (0.5 + t * (2 - 1.5 * t))),
                 static_cast<float>(t * t * (-0.5 + 0.5 * t))};
    one.line = static_cast<float>(t);
  }
  return all;
}

}  // namespace

void check_before(const PlaneBefore& before, const PlaneWindow& window) {
  const Frame& frame = *before.frame;
  if (!frame.has(Layer::smooth_count)) {
    throw Error(ErrorKind::usage, "the frame before has no layer smooth_count");
  }
  if (window.rotation != before.window.rotation) {
    throw Error(ErrorKind::usage, "the frame before has another rotation");
  }
}

PlaneTold told_by(const PlaneBefore& before, const PlaneWindow& window, Size size, int threads) {
  const Frame& frame = *before.frame;
  const Size from = frame.size();
  const auto place = [&](double x, double y) {
    return frame_place(before.window, from, plane_point(window, size, x, y));
  };
  const Vec2d corner = place(0, 0);
  const Vec2d last = place(size.width, size.height);
  const auto across =
      weights_of(corner.x(), (last.x() - corner.x()) / size.width, size.width, from.width);
  const auto along =
      weights_of(corner.y(), (last.y() - corner.y()) / size.height, size.height, from.height);
  const auto width = static_cast<std::size_t>(size.width);
  const float none = std::numeric_limits<float>::quiet_NaN();
  PlaneTold told;
  told.counts.assign(width * static_cast<std::size_t>(size.height), 0);
  told.bends.assign(told.counts.size(), none);
  int low = from.height;
  int high = 0;
  for (const Weights& one : along) {
    if (one.first < 0) continue;
    low = std::min(low, one.first);
    high = std::max(high, one.first + 4);
  }
  if (low >= high) return told;
  // The rows of the frame before, first along themselves.
  const auto rows = static_cast<std::size_t>(high - low);
  std::vector<float> curved(rows * width, none);
  std::vector<float> straight(rows * width, none);
  parallel_for(threads, rows, [&](std::size_t row) {
    const auto counts = frame.values(Layer::smooth_count).row(low + static_cast<int>(row));
    for (std::size_t x = 0; x < width; ++x) {
      const Weights& one = across[x];
      if (one.first < 0) continue;
      const float* const four = &counts[static_cast<std::size_t>(one.first)];
      curved[row * width + x] = one.cubic[0] * four[0] + one.cubic[1] * four[1] +
                                one.cubic[2] * four[2] + one.cubic[3] * four[3];
      straight[row * width + x] = four[1] + one.line * (four[2] - four[1]);
    }
  });
  parallel_for(threads, along.size(), [&](std::size_t y) {
    const Weights& one = along[y];
    if (one.first < 0) return;
    const std::size_t first = static_cast<std::size_t>(one.first - low) * width;
    const float* const a = &curved[first];
    const float* const s = &straight[first];
    float* const count = &told.counts[y * width];
    float* const bend = &told.bends[y * width];
    for (std::size_t x = 0; x < width; ++x) {
      const float line = s[width + x] + one.line * (s[2 * width + x] - s[width + x]);
      // Infinite counts, of those that did not escape, leave no number.
      count[x] = one.cubic[0] * a[x] + one.cubic[1] * a[width + x] +
                 one.cubic[2] * a[2 * width + x] + one.cubic[3] * a[3 * width + x];
      bend[x] = std::abs(count[x] - line);
    }
  });
  return told;
}

std::vector<std::size_t> even_pixels(const std::vector<float>& bends, float most, Size size,
                                     int threads) {
  const auto width = static_cast<std::size_t>(size.width);
  const auto rows = static_cast<std::size_t>(size.height);
  std::vector<std::uint8_t> even(bends.size(), 0);
  parallel_for(threads, rows, [&](std::size_t y) {
    for (std::size_t x = 1; x + 1 < width; ++x) {
      const float* const at = &bends[y * width + x];
      even[y * width + x] = (at[-1] <= most) & (at[0] <= most) & (at[1] <= most);
    }
  });
  std::vector<std::size_t> pixels;
  for (std::size_t y = 1; y + 1 < rows; ++y) {
    for (std::size_t x = 1; x + 1 < width; ++x) {
      const std::uint8_t* const at = &even[y * width + x];
      if (at[0] & *(at - width) & at[width]) pixels.push_back(y * width + x);
    }
  }
  return pixels;
}

}  // namespace photonlane
