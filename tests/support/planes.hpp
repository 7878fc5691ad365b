#pragma once

#include <functional>
#include <string>

#include "photonlane/fractal/escape_plane.hpp"
#include "support/exact_orbit.hpp"
#include "support/scenes.hpp"

namespace photonlane::test {

inline std::string refusal(const std::function<void()>& work) {
  try {
    work();
  } catch (const Error& error) {
    return error.message();
  }
  return "nothing refused";
}

inline World world_of(const EscapePlane& plane) {
  Scene scene;
  scene.plane = plane;
  return compile(scene);
}

inline Camera looking_at(const char* x, const char* y, const char* width) {
  Camera camera;
  camera.window.center = {Decimal(std::string_view(x)), Decimal(std::string_view(y))};
  camera.window.width = Decimal(std::string_view(width));
  return camera;
}

inline Budget stepping(int width, int height, PlaneNumber number, std::int64_t steps = 1000) {
  Budget budget;
  budget.frame = {width, height, 1};
  budget.plane.number = number;
  budget.plane.iterations = steps;
  return budget;
}

inline Frame frame_of(const EscapePlane& plane, const Camera& camera, const Budget& budget) {
  return render(world_of(plane), camera, budget, test::with_layers(LayerSet::of_planes()));
}

/// The one pixel of a window so small that it is a point.
struct PointEnd {
  Ending ending;
  std::uint32_t steps;
};
inline PointEnd end_of(const EscapePlane& plane, const char* x, const char* y,
                       std::int64_t limit = 5000, PlaneNumber number = PlaneNumber::float64) {
  Camera camera = looking_at(x, y, "1e-6");
  const Frame frame = frame_of(plane, camera, stepping(1, 1, number, limit));
  return {static_cast<Ending>(frame.codes(Layer::ending)(0, 0)), frame.codes(Layer::steps)(0, 0)};
}

/// A point from which orbits come to a cycle of two after 24 steps.
inline constexpr const char* spiral_x =
    "-0.7432918908524302029316243259725107571763485581207765818323300000000000000000000000";
inline constexpr const char* spiral_y =
    "0.1312405523087976047708459065814781430771141511585840067313339000000000000000000000";

/// A number with zeros behind it, so many as deep windows ask for.
inline Decimal exactly(const std::string& text, std::size_t places = 60) {
  return Decimal(std::string_view(text + std::string(places, '0')));
}

}  // namespace photonlane::test
