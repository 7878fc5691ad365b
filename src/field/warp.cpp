#include "field/warp.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/trigonometry.hpp"

namespace photonlane {

int copies_beside(int count, const Bounds& part) {
  // How far to either side of +x the part is seen from the axis; all around where it holds the
  // axis.
  const double side = std::max(std::abs(part.low.y()), std::abs(part.high.y()));
  const double reach = part.low.x() > 0 ? std::atan2(side, part.low.x()) : pi;
  const double step = 2 * pi / count;
  if (!(reach > 0.5 * step * (1 + 1e-9))) return 0;
  return static_cast<int>(std::ceil(reach / step - 0.5)) + 1;
}

Mat3d turn_matrix(const Vec3d& turn) {
  Mat3d result = Mat3d::Identity();
  for (int axis = 0; axis < 3; ++axis) {
    const SineCosine angle = sine_cosine(turn[axis]);
    const int second = (axis + 1) % 3;
    const int third = (axis + 2) % 3;
    Mat3d one = Mat3d::Identity();
    one(second, second) = one(third, third) = angle.cosine;
    one(second, third) = -angle.sine;
    one(third, second) = angle.sine;
    result = one * result;
  }
  return result;
}

double twist_stretch(double rate, double radius) {
  const double shear = std::abs(rate) * radius;
  return 0.5 * shear + std::sqrt(1 + 0.25 * shear * shear);
}

double shear_stretch(double width, double shear) {
  const double sum = 1 / (width * width) + shear * shear + 1;
  return std::sqrt(0.5 * (sum + std::sqrt(std::max(0.0, sum * sum - 4 / (width * width)))));
}

Taper::Taper(double foot_factor, double top_factor, const Bounds& part)
    : foot(part.low.z()),
      height(part.high.z() - part.low.z()),
      at_foot(foot_factor),
      at_top(top_factor) {
  radius =
      std::hypot(std::max(-part.low.x(), part.high.x()), std::max(-part.low.y(), part.high.y()));
  // A straight way from within the rim to the part stays within it.
  rim = radius * most() / least();
  shear = height > 0 ? std::abs(at_top - at_foot) / (height * least()) : 0;
  stretch = least() * shear_stretch(least(), shear * rim);
}

Bend::Bend(double rate, const Bounds& part) : radius(1 / std::abs(rate)), side(rate > 0 ? 1 : -1) {
  innermost = radius - (rate > 0 ? part.high.z() : -part.low.z());
  outermost = radius + (rate > 0 ? -part.low.z() : part.high.z());
  innermost = std::min(innermost, radius);
  reach = std::max(-part.low.x(), part.high.x());
}

}  // namespace photonlane
