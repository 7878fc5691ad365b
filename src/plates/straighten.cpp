#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

#include "base/parallel.hpp"
#include "plates/plate_solid.hpp"

namespace photonlane {
namespace {

constexpr float infinite = std::numeric_limits<float>::infinity();

/// The pixels that all of a distorted picture lies on without its distortion, from those of the
/// picture itself.
PixelPart straight_part(const Viewing& view, Size size) {
  double low_x = 0;
  double low_y = 0;
  double high_x = size.width;
  double high_y = size.height;
  const auto take = [&](double px, double py) {
    const Vec2d at = view.straightened(view.u(px), view.v(py));
    const double x = view.center_x + view.focal * at.x();
    const double y = view.center_y - view.focal_y * at.y();
    low_x = std::min(low_x, x);
    high_x = std::max(high_x, x);
    low_y = std::min(low_y, y);
    high_y = std::max(high_y, y);
  };
  for (int x = 0; x <= size.width; ++x) {
    take(x, 0);
    take(x, size.height);
  }
  for (int y = 0; y <= size.height; ++y) {
    take(0, y);
    take(size.width, y);
  }
  // Lenses that show every direction once show a tangent r at 4/9 r or more: so these are at most
  // 81/16 as many.
  return {static_cast<int>(std::floor(low_x)),
          static_cast<int>(std::floor(low_y)),
          {static_cast<int>(std::ceil(high_x) - std::floor(low_x)),
           static_cast<int>(std::ceil(high_y) - std::floor(low_y))}};
}

/// The planes of a plate that is made anew.
struct Planes {
  std::vector<float> depth;
  std::array<std::vector<float>, 3> color, normal;
  std::vector<float> alpha;
};

/// Pixels of a distorted plate between those it has.
class Sampler {
 public:
  Sampler(const Plate& plate, const PlateLens& lens, Planes& to)
      : plate_(plate), size_(plate.depth.size), to_(to) {
    const auto width = static_cast<std::size_t>(size_.width);
    inverse_.resize(width * static_cast<std::size_t>(size_.height));
    parallel_for(0, static_cast<std::size_t>(size_.height), [&](std::size_t row) {
      for (std::size_t x = 0; x < width; ++x) {
        inverse_[row * width + x] = static_cast<float>(
            1 / distance_of(plate_, lens, static_cast<int>(x), static_cast<int>(row)));
      }
    });
  }

  /// Leaves the pixel as one that the plate does not show where that is outside.
  void put(double px, double py, std::size_t i) const {
    if (!(px >= 0 && py >= 0 && px < size_.width && py < size_.height)) return;
    // The four pixels whose middles are around, those of the border by themselves.
    const double across = std::clamp(px - 0.5, 0.0, size_.width - 1.0);
    const double down = std::clamp(py - 0.5, 0.0, size_.height - 1.0);
    const int x = std::min(static_cast<int>(across), std::max(0, size_.width - 2));
    const int y = std::min(static_cast<int>(down), std::max(0, size_.height - 2));
    const double right = across - x;
    const double below = down - y;
    double share[4] = {(1 - right) * (1 - below), right * (1 - below), (1 - right) * below,
                       right * below};
    if (!one_thing(x, y, share)) {
      // The one whose pixel it is.
      const auto nearest = static_cast<std::size_t>(std::max_element(share, share + 4) - share);
      for (std::size_t k = 0; k < 4; ++k) share[k] = k == nearest ? 1 : 0;
    }
    const auto mean = [&](const auto& value) {
      double sum = 0;
      for (int k = 0; k < 4; ++k) {
        if (share[k] > 0) sum += share[k] * static_cast<double>(value(x + k % 2, y + k / 2));
      }
      return sum;
    };
    const auto of = [&](const PlateImage& image) {
      return static_cast<float>(mean([&](int px_, int py_) { return image.at(px_, py_); }));
    };
    const double near = mean([&](int px_, int py_) { return inverse(px_, py_); });
    to_.depth[i] = near > 0 ? static_cast<float>(1 / near) : near == 0 ? infinite : -1.0f;
    to_.color[0][i] = of(plate_.red);
    to_.color[1][i] = of(plate_.green);
    to_.color[2][i] = of(plate_.blue);
    to_.alpha[i] = plate_.alpha.values != nullptr ? of(plate_.alpha) : 1.0f;
    if (plate_.normal[0].values == nullptr) return;
    for (std::size_t axis = 0; axis < 3; ++axis) to_.normal[axis][i] = of(plate_.normal[axis]);
  }

 private:
  /// 1 / distance; 0 for what has no place, and outside.
  float inverse(int x, int y) const {
    if (x < 0 || y < 0 || x >= size_.width || y >= size_.height) return 0;
    return inverse_[static_cast<std::size_t>(y) * static_cast<std::size_t>(size_.width) +
                    static_cast<std::size_t>(x)];
  }
  /// Whether the four pixels from one on, as far as they have a share, are of one surface, or of
  /// what has no place.
  bool one_thing(int x, int y, const double (&share)[4]) const {
    const auto joined = [&](int k, int j) {
      if (!(share[k] > 0 && share[j] > 0)) return true;
      const int dx = (j - k) % 2;
      const int dy = (j - k) / 2;
      const int from_x = x + k % 2;
      const int from_y = y + k / 2;
      const float one = inverse(from_x, from_y);
      const float two = inverse(from_x + dx, from_y + dy);
      if (one == 0 && two == 0) return true;
      return one_surface(inverse(from_x - dx, from_y - dy), one, two,
                         inverse(from_x + 2 * dx, from_y + 2 * dy), static_cast<float>(plate_.gap));
    };
    return joined(0, 1) && joined(2, 3) && joined(0, 2) && joined(1, 3);
  }

  const Plate& plate_;
  Size size_;
  Planes& to_;
  std::vector<float> inverse_;
};

}  // namespace

Plate straightened(const Plate& plate) {
  const Size size = plate.depth.size;
  const PlateLens lens(plate.camera, size);
  const Viewing& view = lens.view;
  if (view.straight()) return plate;
  const PixelPart part = straight_part(view, size);
  const auto planes = std::make_shared<Planes>();
  const std::size_t count =
      static_cast<std::size_t>(part.size.width) * static_cast<std::size_t>(part.size.height);
  planes->depth.assign(count, infinite);
  planes->alpha.assign(count, 0.0f);
  for (std::vector<float>& plane : planes->color) plane.assign(count, 0.0f);
  if (plate.normal[0].values != nullptr) {
    for (std::vector<float>& plane : planes->normal) plane.assign(count, 0.0f);
  }
  const Sampler sampler(plate, lens, *planes);
  parallel_for(0, static_cast<std::size_t>(part.size.height), [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < part.size.width; ++x) {
      const double u = view.u(part.x + x + 0.5);
      const double v = view.v(part.y + y + 0.5);
      const auto seen = view.pixel(view.forward + u * view.right + v * view.up);
      if (!seen) continue;
      sampler.put((*seen)[0], (*seen)[1],
                  row * static_cast<std::size_t>(part.size.width) + static_cast<std::size_t>(x));
    }
  });
  Plate result = plate;
  result.camera.distortion_k1 = result.camera.distortion_k2 = 0;
  result.camera = part_camera(result.camera, size, part);
  result.means = {.kind = DepthKind::axis};
  const auto image = [&](const std::vector<float>& plane) {
    return PlateImage{part.size, plane.data(), 1, part.size.width, planes};
  };
  result.depth = image(planes->depth);
  result.red = image(planes->color[0]);
  result.green = image(planes->color[1]);
  result.blue = image(planes->color[2]);
  result.alpha = image(planes->alpha);
  if (plate.normal[0].values != nullptr) {
    for (std::size_t axis = 0; axis < 3; ++axis) result.normal[axis] = image(planes->normal[axis]);
  }
  // These are pixels of the picture as it was.
  result.marks.clear();
  return result;
}

}  // namespace photonlane
