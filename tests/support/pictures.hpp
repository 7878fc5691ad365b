#pragma once

#include <gtest/gtest.h>

#include "photonlane/frame/frame.hpp"

namespace photonlane::test {

/// How many pixels' endings, materials and faces two frames tell differently; depths of what is of
/// one material in both must be that close.
inline int surfaces_apart(const Frame& one, const Frame& other, double depth) {
  int apart = 0;
  const Size size = one.size();
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      for (const Layer layer : {Layer::ending, Layer::material, Layer::face}) {
        apart += one.codes(layer)(x, y) != other.codes(layer)(x, y);
      }
      const bool hit = one.codes(Layer::ending)(x, y) == 0 && other.codes(Layer::ending)(x, y) == 0;
      if (hit && one.codes(Layer::material)(x, y) == other.codes(Layer::material)(x, y)) {
        EXPECT_NEAR(one.values(Layer::depth)(x, y), other.values(Layer::depth)(x, y), depth);
      }
    }
  }
  return apart;
}

}  // namespace photonlane::test
