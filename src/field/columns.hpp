#pragma once

#include <span>
#include <vector>

#include "field/field_kernel.hpp"

namespace photonlane {

/// Places turned into one array a coordinate.
struct Columns {
  std::vector<double> x, y, z;
  explicit Columns(std::span<const Vec3d> places) {
    for (const Vec3d& place : places) {
      x.push_back(place.x());
      y.push_back(place.y());
      z.push_back(place.z());
    }
  }
  explicit Columns(std::size_t count) : x(count), y(count), z(count) {}
  FieldPlaces<double> places() const { return {x.data(), y.data(), z.data(), x.size()}; }
  FieldGradients<double> gradients() { return {x.data(), y.data(), z.data()}; }
  Vec3d at(std::size_t i) const { return {x[i], y[i], z[i]}; }
  void set(std::size_t i, const Vec3d& place) {
    x[i] = place.x();
    y[i] = place.y();
    z[i] = place.z();
  }
};

}  // namespace photonlane
