#include "textbook/columns.hpp"

#include <cmath>

namespace textbook {

Hit cast_increments(const Map& map, const Eye& eye, float dx, float dy, float increment,
                    float far) {
  Hit hit;
  float x = eye.x;
  float y = eye.y;
  const float step_x = dx * increment;
  const float step_y = dy * increment;
  int before_x = static_cast<int>(x);
  while (hit.t < far) {
    x += step_x;
    y += step_y;
    hit.t += increment;
    ++hit.steps;
    hit.x = static_cast<int>(std::floor(x));
    hit.y = static_cast<int>(std::floor(y));
    if (map.wall(hit.x, hit.y)) {
      hit.by_x = hit.x != before_x;
      return hit;
    }
    before_x = hit.x;
  }
  return hit;
}

Hit cast_boundaries(const Map& map, const Eye& eye, float dx, float dy, float far) {
  Hit hit;
  hit.x = static_cast<int>(eye.x);
  hit.y = static_cast<int>(eye.y);
  const float across_x = dx == 0 ? 1e30f : std::fabs(1 / dx);
  const float across_y = dy == 0 ? 1e30f : std::fabs(1 / dy);
  const int step_x = dx < 0 ? -1 : 1;
  const int step_y = dy < 0 ? -1 : 1;
  float next_x = (dx < 0 ? eye.x - hit.x : hit.x + 1 - eye.x) * across_x;
  float next_y = (dy < 0 ? eye.y - hit.y : hit.y + 1 - eye.y) * across_y;
  for (;;) {
    ++hit.steps;
    if (next_x < next_y) {
      hit.t = next_x;
      next_x += across_x;
      hit.x += step_x;
      hit.by_x = true;
    } else {
      hit.t = next_y;
      next_y += across_y;
      hit.y += step_y;
      hit.by_x = false;
    }
    if (hit.t >= far || map.wall(hit.x, hit.y)) return hit;
  }
}

namespace {

template <class Cast>
void for_columns(const Eye& eye, std::vector<Hit>& hits, const Cast& cast) {
  const int width = static_cast<int>(hits.size());
  for (int i = 0; i < width; ++i) {
    const float u = ((2 * (i + 0.5f)) / width - 1) * eye.half_width;
    const float dx = eye.forward_x + u * eye.forward_y;
    const float dy = eye.forward_y - u * eye.forward_x;
    const float length = std::sqrt(dx * dx + dy * dy);
    hits[i] = cast(dx / length, dy / length);
  }
}

}  // namespace

void cast_columns_increments(const Map& map, const Eye& eye, float increment, float far,
                             std::vector<Hit>& hits) {
  for_columns(eye, hits, [&](float dx, float dy) {
    return cast_increments(map, eye, dx, dy, increment, far);
  });
}

void cast_columns_boundaries(const Map& map, const Eye& eye, std::vector<Hit>& hits) {
  for_columns(eye, hits, [&](float dx, float dy) { return cast_boundaries(map, eye, dx, dy); });
}

}  // namespace textbook
