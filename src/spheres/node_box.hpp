#pragma once

#include <algorithm>
#include <limits>

#include "spheres/sphere_tree.hpp"

namespace photonlane {

/// What a child of a node is within.
struct NodeBox {
  double low[3] = {infinite, infinite, infinite};
  double high[3] = {-infinite, -infinite, -infinite};

  void add(double x, double y, double z, double radius) {
    const double at[3] = {x, y, z};
    for (int axis = 0; axis < 3; ++axis) {
      low[axis] = std::min(low[axis], at[axis] - radius);
      high[axis] = std::max(high[axis], at[axis] + radius);
    }
  }
  void add(const NodeBox& box) {
    for (int axis = 0; axis < 3; ++axis) {
      low[axis] = std::min(low[axis], box.low[axis]);
      high[axis] = std::max(high[axis], box.high[axis]);
    }
  }

 private:
  static constexpr double infinite = std::numeric_limits<double>::infinity();
};

/// A node whose boxes hold those given, each by less than a 255th of the whole larger.
void enclose(const NodeBox* boxes, int count, SphereNode& node);

/// Eight spheres in the box that a node has for them; false where their places would be moved by
/// more than a quarter of a radius, or radii are too small for their unit. `moved` grows to how far
/// one was moved.
bool fit(const SphereNode& node, int child, const SphereEight& eight, double unit, SphereLeaf& leaf,
         double& moved);

}  // namespace photonlane
