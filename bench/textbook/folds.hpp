#pragma once

#include <cstddef>

namespace textbook {

/// The distance of a sponge of size 2: folded to one of its parts, and made three times as large.
float sponge_distance(float x, float y, float z, int times);

/// Half of r log r over the running derivative of z^8 + place, powers by squaring.
float bulb_distance(float x, float y, float z, int times, float limit);

/// Places marched to within a tolerance of a distance of 0, at most so many steps: the steps taken.
using Distance = float (*)(float x, float y, float z);
std::size_t march(const float* x, const float* y, const float* z, const float* way_x,
                  const float* way_y, const float* way_z, std::size_t count, float far,
                  float tolerance, float growth, Distance distance, float* t);

}  // namespace textbook
