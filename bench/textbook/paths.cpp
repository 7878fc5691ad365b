#include "textbook/paths.hpp"

#include <algorithm>
#include <cmath>

namespace photonlane::textbook {
namespace {

struct V {
  float x, y, z;
};
V operator+(V a, V b) { return {a.x + b.x, a.y + b.y, a.z + b.z}; }
V operator-(V a, V b) { return {a.x - b.x, a.y - b.y, a.z - b.z}; }
V operator*(V a, float s) { return {a.x * s, a.y * s, a.z * s}; }
float dot(V a, V b) { return a.x * b.x + a.y * b.y + a.z * b.z; }
V unit(V a) { return a * (1 / std::sqrt(dot(a, a))); }
V cross(V a, V b) { return {a.y * b.z - a.z * b.y, a.z * b.x - a.x * b.z, a.x * b.y - a.y * b.x}; }

/// Random numbers of a small generator (Marsaglia, "Xorshift RNGs", 2003).
struct Random {
  std::uint32_t state;
  float next() {
    state ^= state << 13;
    state ^= state >> 17;
    state ^= state << 5;
    return static_cast<float>(state >> 8) * 0x1p-24f;
  }
};

int nearest(const std::vector<Ball>& balls, V from, V way, float* t) {
  int found = -1;
  float best = 1e30f;
  for (int i = 0; i < static_cast<int>(balls.size()); ++i) {
    const Ball& ball = balls[static_cast<std::size_t>(i)];
    const V to{ball.x - from.x, ball.y - from.y, ball.z - from.z};
    const float along = dot(to, way);
    const float square = ball.radius * ball.radius - (dot(to, to) - along * along);
    if (square < 0) continue;
    const float half = std::sqrt(square);
    float at = along - half;
    if (at < 1e-3f) at = along + half;
    if (at < 1e-3f || at >= best) continue;
    best = at;
    found = i;
  }
  *t = best;
  return found;
}

bool hidden(const std::vector<Ball>& balls, V from, V way) {
  for (const Ball& ball : balls) {
    const V to{ball.x - from.x, ball.y - from.y, ball.z - from.z};
    const float along = dot(to, way);
    const float square = ball.radius * ball.radius - (dot(to, to) - along * along);
    if (square >= 0 && along + std::sqrt(square) > 1e-3f) return true;
  }
  return false;
}

V sky(V way) {
  const float rise = std::sqrt(std::max(way.z, 0.0f));
  return V{0.8f, 0.52f, 0.36f} * (1 - rise) + V{0.1f, 0.14f, 0.32f} * rise;
}

V over(V normal, Random& random) {
  const float u = random.next();
  const float turn = 6.2831853f * random.next();
  const float radius = std::sqrt(u);
  const V one =
      unit(std::abs(normal.x) > 0.5f ? cross(normal, {0, 1, 0}) : cross(normal, {1, 0, 0}));
  const V two = cross(normal, one);
  return one * (radius * std::cos(turn)) + two * (radius * std::sin(turn)) +
         normal * std::sqrt(1 - u);
}

V in_sun(const PathScene& scene, Random& random) {
  const V axis{scene.sun[0], scene.sun[1], scene.sun[2]};
  const float cosine = 1 - random.next() * (1 - scene.sun_cosine);
  const float sine = std::sqrt(std::max(0.0f, 1 - cosine * cosine));
  const float turn = 6.2831853f * random.next();
  const V one = unit(std::abs(axis.x) > 0.5f ? cross(axis, {0, 1, 0}) : cross(axis, {1, 0, 0}));
  const V two = cross(axis, one);
  return one * (sine * std::cos(turn)) + two * (sine * std::sin(turn)) + axis * cosine;
}

V path(const PathScene& scene, V from, V way, int bounces, Random& random) {
  V light{0, 0, 0};
  V weight{1, 1, 1};
  bool straight = true;
  const V toward{scene.sun[0], scene.sun[1], scene.sun[2]};
  for (int bounce = 0;; ++bounce) {
    float t;
    const int met = nearest(scene.balls, from, way, &t);
    if (met < 0) {
      V seen = sky(way);
      if (straight && dot(way, toward) >= scene.sun_cosine) {
        const float disc = scene.sun_color / (1 - scene.sun_cosine * scene.sun_cosine);
        seen = seen + V{disc, disc, disc};
      }
      light = light + V{weight.x * seen.x, weight.y * seen.y, weight.z * seen.z};
      return light;
    }
    if (bounce >= bounces) return light;
    const Ball& ball = scene.balls[static_cast<std::size_t>(met)];
    const V place = from + way * t;
    V normal = (place - V{ball.x, ball.y, ball.z}) * (1 / ball.radius);
    const bool inside = dot(normal, way) > 0;
    if (inside) normal = normal * -1;
    const V color{ball.red, ball.green, ball.blue};
    from = place + normal * 1e-3f;
    if (ball.kind == 0) {
      const V lamp = in_sun(scene, random);
      const float cosine = dot(lamp, normal);
      if (cosine > 0 && !hidden(scene.balls, from, lamp)) {
        const float amount = cosine * scene.sun_color;
        light = light + V{weight.x * color.x, weight.y * color.y, weight.z * color.z} * amount;
      }
      way = over(normal, random);
      straight = false;
    } else if (ball.kind == 1) {
      way = way - normal * (2 * dot(way, normal));
      straight = true;
    } else {
      const float index = inside ? 1 / 1.5f : 1.5f;
      const float cosine = -dot(way, normal);
      const float square = index * index - 1 + cosine * cosine;
      float thrown = 1;
      if (square > 0) {
        const float g = std::sqrt(square);
        const float across = (cosine - g) / (cosine + g);
        const float along = (index * index * cosine - g) / (index * index * cosine + g);
        thrown = 0.5f * (across * across + along * along);
      }
      if (random.next() < thrown) {
        way = way + normal * (2 * cosine);
      } else {
        const float ratio = 1 / index;
        way = unit(way * ratio + normal * (ratio * cosine -
                                           std::sqrt(1 - ratio * ratio * (1 - cosine * cosine))));
        from = place - normal * 1e-3f;
      }
      straight = true;
    }
    if (ball.kind != 2) weight = {weight.x * color.x, weight.y * color.y, weight.z * color.z};
    const float most = std::max({weight.x, weight.y, weight.z});
    const float chance = std::min(1.0f, most / 0.25f);
    if (random.next() >= chance) return light;
    weight = weight * (1 / chance);
  }
}

}  // namespace

void trace_paths(const PathScene& scene, const PathView& view, int samples, int bounces,
                 std::vector<float>& picture) {
  picture.resize(3 * static_cast<std::size_t>(view.width) * static_cast<std::size_t>(view.height));
  const V eye{view.eye[0], view.eye[1], view.eye[2]};
  const V forward{view.forward[0], view.forward[1], view.forward[2]};
  const V right{view.right[0], view.right[1], view.right[2]};
  const V up{view.up[0], view.up[1], view.up[2]};
  for (int y = 0; y < view.height; ++y) {
    for (int x = 0; x < view.width; ++x) {
      Random random{static_cast<std::uint32_t>(y * view.width + x) * 2654435761u + 1};
      V sum{0, 0, 0};
      for (int s = 0; s < samples; ++s) {
        const float u =
            (static_cast<float>(x) + random.next() - 0.5f * static_cast<float>(view.width)) /
            view.focal;
        const float v =
            (0.5f * static_cast<float>(view.height) - static_cast<float>(y) - random.next()) /
            view.focal;
        sum = sum + path(scene, eye, unit(forward + right * u + up * v), bounces, random);
      }
      float* out =
          picture.data() + 3 * (static_cast<std::size_t>(y) * static_cast<std::size_t>(view.width) +
                                static_cast<std::size_t>(x));
      out[0] = sum.x / static_cast<float>(samples);
      out[1] = sum.y / static_cast<float>(samples);
      out[2] = sum.z / static_cast<float>(samples);
    }
  }
}

}  // namespace photonlane::textbook
