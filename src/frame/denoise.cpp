#include "frame/denoise.hpp"

#include <algorithm>
#include <cmath>

#include "base/parallel.hpp"

namespace photonlane {
namespace {

/// Surfaces darker than this do not have their noise blown up.
constexpr float least_albedo = 0.02f;

/// Of a pixel, what edges are seen by.
struct Guide {
  float normal[3];
  float depth;
  bool met;
};

float brightness(const Color& color) {
  return 0.2126f * color[0] + 0.7152f * color[1] + 0.0722f * color[2];
}

class Rounds {
 public:
  Rounds(const Frame& guides, std::vector<Color>& light, std::vector<float> variance, int threads)
      : width_(guides.size().width),
        height_(guides.size().height),
        threads_(threads),
        light_(light),
        variance_(std::move(variance)) {
    guides_.reserve(light.size());
    for (int y = 0; y < height_; ++y) {
      for (int x = 0; x < width_; ++x) {
        Guide guide{};
        for (int axis = 0; axis < 3; ++axis) {
          guide.normal[axis] = guides.values(Layer::normal, axis)(x, y);
        }
        guide.depth = guides.values(Layer::ray_distance)(x, y);
        guide.met = std::isfinite(guide.depth);
        guides_.push_back(guide);
      }
    }
  }

  void run(int rounds) {
    for (int k = 0; k < rounds; ++k) one(1 << k);
  }

 private:
  std::size_t at(int x, int y) const { return static_cast<std::size_t>(y) * width_ + x; }

  /// Variance of a pixel's surroundings: that of one alone is as noisy as its color.
  float around(int x, int y) const {
    float sum = 0;
    float weights = 0;
    for (int dy = -1; dy <= 1; ++dy) {
      for (int dx = -1; dx <= 1; ++dx) {
        const int cx = std::clamp(x + dx, 0, width_ - 1);
        const int cy = std::clamp(y + dy, 0, height_ - 1);
        const float weight = (dx == 0 ? 2.0f : 1.0f) * (dy == 0 ? 2.0f : 1.0f);
        const float one = variance_[at(cx, cy)];
        if (!std::isfinite(one)) continue;
        sum += weight * one;
        weights += weight;
      }
    }
    return weights > 0 ? sum / weights : std::numeric_limits<float>::infinity();
  }

  void one(int step) {
    static constexpr float taps[5] = {1.0f / 16, 1.0f / 4, 3.0f / 8, 1.0f / 4, 1.0f / 16};
    std::vector<Color> next(light_.size());
    std::vector<float> next_variance(light_.size());
    parallel_for(threads_, static_cast<std::size_t>(height_), [&](std::size_t row) {
      const auto y = static_cast<int>(row);
      for (int x = 0; x < width_; ++x) {
        const Guide& own = guides_[at(x, y)];
        const float own_light = brightness(light_[at(x, y)]);
        const float deviation = std::sqrt(around(x, y));
        Color sum(0, 0, 0);
        float weights = 0;
        float variance = 0;
        for (int j = -2; j <= 2; ++j) {
          for (int i = -2; i <= 2; ++i) {
            const int cx = x + i * step;
            const int cy = y + j * step;
            if (cx < 0 || cy < 0 || cx >= width_ || cy >= height_) continue;
            const std::size_t other = at(cx, cy);
            float weight = taps[i + 2] * taps[j + 2];
            if (i != 0 || j != 0) {
              weight *= alike(own, guides_[other], step * std::max(std::abs(i), std::abs(j)));
              if (std::isfinite(deviation)) {
                weight *= std::exp(-std::abs(brightness(light_[other]) - own_light) /
                                   (4 * deviation + 1e-6f));
              }
            }
            sum += light_[other] * weight;
            weights += weight;
            if (std::isfinite(variance_[other])) variance += weight * weight * variance_[other];
          }
        }
        next[at(x, y)] = sum / weights;
        next_variance[at(x, y)] = std::isfinite(variance_[at(x, y)])
                                      ? variance / (weights * weights)
                                      : variance_[at(x, y)];
      }
    });
    light_ = std::move(next);
    variance_ = std::move(next_variance);
  }

  static float alike(const Guide& a, const Guide& b, int pixels) {
    if (a.met != b.met) return 0;
    if (!a.met) return 1;
    const float cosine =
        a.normal[0] * b.normal[0] + a.normal[1] * b.normal[1] + a.normal[2] * b.normal[2];
    const float facing = std::pow(std::max(cosine, 0.0f), 64.0f);
    // A surface seen at a slant gets farther away by some hundredths a pixel.
    const float far = std::abs(a.depth - b.depth) / (0.02f * static_cast<float>(pixels) * a.depth);
    return facing * std::exp(-far);
  }

  int width_, height_, threads_;
  std::vector<Color>& light_;
  std::vector<float> variance_;
  std::vector<Guide> guides_;
};

}  // namespace

LayerSet denoise_guides() { return {Layer::normal, Layer::ray_distance}; }

void denoise(const Frame& guides, const std::vector<Color>& albedo,
             const std::vector<float>& variance, int rounds, int threads,
             std::vector<Color>& light) {
  std::vector<float> scaled = variance;
  for (std::size_t i = 0; i < light.size(); ++i) {
    const Color own = albedo[i].max(least_albedo);
    light[i] /= own;
    scaled[i] /= (own * own).mean();
  }
  Rounds(guides, light, std::move(scaled), threads).run(rounds);
  for (std::size_t i = 0; i < light.size(); ++i) light[i] *= albedo[i].max(least_albedo);
}

}  // namespace photonlane
