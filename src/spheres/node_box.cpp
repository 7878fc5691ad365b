#include "spheres/node_box.hpp"

#include <cmath>

namespace photonlane {

void enclose(const NodeBox* boxes, int count, SphereNode& node) {
  node.axes = 0x3f;
  for (int child = 0; child < 8; ++child) {
    for (int axis = 0; axis < 3; ++axis) {
      node.low[axis][child] = 255;
      node.high[axis][child] = 0;
    }
  }
  NodeBox all;
  for (int child = 0; child < count; ++child) all.add(boxes[child]);
  for (int axis = 0; axis < 3; ++axis) {
    node.origin[axis] = 0;
    node.exponent[axis] = 0;
    if (count == 0) continue;
    float origin = static_cast<float>(all.low[axis]);
    if (static_cast<double>(origin) > all.low[axis]) {
      origin = std::nextafter(origin, -std::numeric_limits<float>::infinity());
    }
    node.origin[axis] = origin;
    const double from = static_cast<double>(origin);
    int exponent = 0;
    std::frexp((all.high[axis] - from) / 255, &exponent);
    for (exponent = std::max(exponent - 1, -100);; ++exponent) {
      node.exponent[axis] = static_cast<std::int8_t>(exponent);
      const double inverse = 1 / node.step(axis);
      if (std::ceil((all.high[axis] - from) * inverse) > 255) continue;
      for (int child = 0; child < count; ++child) {
        node.low[axis][child] =
            static_cast<std::uint8_t>(std::floor((boxes[child].low[axis] - from) * inverse));
        node.high[axis][child] =
            static_cast<std::uint8_t>(std::ceil((boxes[child].high[axis] - from) * inverse));
      }
      break;
    }
  }
}

bool fit(const SphereNode& node, int child, const SphereEight& eight, double unit, SphereLeaf& leaf,
         double& moved) {
  const double* const from[3] = {eight.x, eight.y, eight.z};
  std::uint16_t* const to[3] = {leaf.x, leaf.y, leaf.z};
  double square[8] = {};
  for (int axis = 0; axis < 3; ++axis) {
    const double low = node.low_of(axis, child);
    const double cell =
        (node.high[axis][child] - node.low[axis][child]) * node.step(axis) * 0x1p-16;
    const double inverse = cell > 0 ? 1 / cell : 0;
    for (int k = 0; k < 8; ++k) {
      const double place = std::clamp((from[axis][k] - low) * inverse + 0.5, 0.0, 65535.0);
      to[axis][k] = static_cast<std::uint16_t>(place);
      const double off = low + to[axis][k] * cell - from[axis][k];
      square[k] += off * off;
    }
  }
  double most = 0;
  double smallest = std::numeric_limits<double>::infinity();
  for (int k = 0; k < 8; ++k) {
    most = std::max(most, square[k]);
    leaf.radius[k] = SphereRadius::code(eight.radius[k] / unit);
    if (leaf.radius[k] == 0 && eight.radius[k] > 0) return false;
    if (eight.radius[k] > 0) smallest = std::min(smallest, eight.radius[k]);
  }
  most = std::sqrt(most);
  if (most > 0.25 * smallest) return false;
  moved = std::max(moved, most);
  return true;
}

}  // namespace photonlane
