#pragma once

#include <vector>

#include "photonlane/photonlane.hpp"

namespace photonlane::test {

/// Pixels that a plate points into.
struct Pixels {
  Size size;
  std::vector<float> depth, red, green, blue, alpha;

  explicit Pixels(Size its_size) : size(its_size) {
    const auto count = static_cast<std::size_t>(size.width) * static_cast<std::size_t>(size.height);
    for (auto* plane : {&depth, &red, &green, &blue}) plane->assign(count, 0.5f);
  }
  /// The colors and the depth of a frame.
  explicit Pixels(const Frame& frame) : Pixels(frame.size()) {
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) {
        const std::size_t i = at(x, y);
        red[i] = frame.values(Layer::color, 0)(x, y);
        green[i] = frame.values(Layer::color, 1)(x, y);
        blue[i] = frame.values(Layer::color, 2)(x, y);
        depth[i] = frame.values(Layer::depth)(x, y);
      }
    }
  }
  std::size_t at(int x, int y) const {
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(size.width) +
           static_cast<std::size_t>(x);
  }
  PlateImage image(const std::vector<float>& plane) const {
    if (plane.empty()) return {};
    return {size, plane.data(), 1, size.width, {}};
  }
  Plate plate(const Camera& camera) const {
    Plate plate;
    plate.camera = camera;
    plate.red = image(red);
    plate.green = image(green);
    plate.blue = image(blue);
    plate.alpha = image(alpha);
    plate.depth = image(depth);
    return plate;
  }
};

/// A yard with a floor, walls and, with `guest`, a ball that a plate of the yard does not have.
inline Scene yard(bool guest) {
  Scene scene;
  const auto made_of = [&](float r, float g, float b) {
    return static_cast<int>(material_of(scene.wall({.base = {r, g, b}})));
  };
  Room& room = scene.room();
  room.fog.start = 1e5;
  room.fog.end = 2e5;
  const int tiles = made_of(0.6f, 0.5f, 0.4f);
  const int brick = made_of(0.5f, 0.25f, 0.2f);
  const int leaf = made_of(0.2f, 0.5f, 0.2f);
  room.add(field::plane({0, 0, 1}).made_of(tiles));
  room.add(field::place({0, 3, 1}, field::box({6, 0.4, 2})).made_of(brick));
  room.add(field::place({1.5, 1, 0.4}, field::box({0.8, 0.8, 0.8})).made_of(brick));
  if (guest) room.add(field::place({-0.4, 0.6, 0.7}, field::sphere(0.6)).made_of(leaf));
  room.light.ambient = {0.3f, 0.3f, 0.35f};
  room.light.sun = Sun{.heading = degrees(230), .elevation = degrees(40)};
  room.light.lamps.push_back({.place = {-2, -0.5, 2}, .range = 6});
  return scene;
}

inline const Camera yard_camera{
    .eye = {0.3, -4, 1.7}, .heading = degrees(92), .pitch = degrees(-8)};

inline Budget yard_budget() {
  Budget budget{.frame = {160, 100, 1}};
  budget.light.corners = Corners::none;
  return budget;
}

/// The yard without its guest as a picture, and with the guest beside that picture.
struct PlateYard {
  Frame made = render(compile(yard(false)), yard_camera, yard_budget(),
                      {.layers = {Layer::color, Layer::depth}});
  Pixels pixels{made};

  Scene scene() const {
    Scene scene = yard(true);
    Room& room = scene.room();
    const Field guest = room.fields.back();
    room.fields = {guest};
    Plate plate = pixels.plate(yard_camera);
    plate.thickness = 0.4;
    room.add(plate);
    return scene;
  }
};

}  // namespace photonlane::test
