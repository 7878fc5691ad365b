#pragma once

#include <algorithm>
#include <cmath>
#include <utility>
#include <vector>

#include "photonlane/field/compiled_field.hpp"

namespace photonlane {

/// Places on their way to a surface, by value and slope: from inside, out.
class WayDown {
 public:
  WayDown(const CompiledField& field, std::vector<Vec3d> at) : field_(field), at_(std::move(at)) {}

  const Vec3d& at(std::size_t i) const { return at_[i]; }
  /// What was found where it was looked last.
  double value(std::size_t i) const { return slopes_[i].value; }

  void look() { slopes_ = field_.slopes(at_); }
  void go(int times) {
    for (int step = 0; step < times; ++step) {
      look();
      for (std::size_t i = 0; i < at_.size(); ++i) {
        const double steep = slopes_[i].gradient.norm();
        if (!(steep > 1e-6)) continue;
        // Bounds of distances grow slower than they.
        at_[i] -= slopes_[i].value / (std::max(steep, 0.1) * steep) * slopes_[i].gradient;
      }
    }
  }
  /// Along the surface toward other places.
  void slide(const std::vector<Vec3d>& to) {
    for (std::size_t i = 0; i < at_.size(); ++i) {
      const Vec3d normal = slopes_[i].gradient.normalized();
      if (!normal.allFinite()) continue;
      const Vec3d toward = to[i] - at_[i];
      at_[i] += 0.4 * (toward - toward.dot(normal) * normal);
    }
  }

 private:
  const CompiledField& field_;
  std::vector<Vec3d> at_;
  std::vector<FieldSlope> slopes_;
};

}  // namespace photonlane
