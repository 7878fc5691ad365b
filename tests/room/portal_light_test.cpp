// Stretched boxes, and light that comes through portals.

#include <gtest/gtest.h>

#include <cmath>

#include "photonlane/io.hpp"
#include "support/effort.hpp"
#include "support/portals.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using namespace test;  // NOLINT: all of it is about portals

TEST(Portals, StretchedBoxesAreAsLongAsTheySay) {
  // A tunnel 2 m long outside and 10 m inside, with walls along it: seen straight through its ends
  // it is a real one of 10 m; what stands behind it is that much farther away.
  const auto scene_of = [](double length, bool stretched) {
    Scene scene = with_materials();
    scene.room().name = "here";
    Room& here = scene.room();
    here.add(field::place({stretched ? 4.0 : 2 + length, 0.3, 0.2}, field::sphere(0.5)));
    if (stretched) {
      Portal portal;
      portal.name = "tunnel";
      portal.opening = {.shape = OpeningShape::box, .size = {2, 1, 1}};
      portal.opening.sides = {BoxSide::front, BoxSide::back};
      portal.stance = {.at = {2, 0, 0}};
      portal.to = PortalTarget{.room = "inside"};
      portal.stretch = {length / 2, 1, 1};
      here.portals.push_back(portal);
    }
    Room& walls = stretched ? scene.add_room("inside") : here;
    const double middle = stretched ? 0 : 1 + length / 2;
    for (const double side : {-1.0, 1.0}) {
      walls.add(field::place({middle, side, 0}, field::box({length, 1, 2})).made_of(1));
      walls.add(field::place({middle, 0, side}, field::box({length, 2, 1})).made_of(2));
    }
    return scene;
  };
  const Camera camera{.eye = {-1, 0.1, 0.05}, .field_of_view = degrees(16)};
  for (const double length : {10.0, 0.5}) {
    const Budget budget = exact(60, 40);
    const Frame tunnel =
        render(compile(scene_of(length, true)), camera, budget, test::with_layers(told));
    const Frame real =
        render(compile(scene_of(length, false)), camera, budget, test::with_layers(told));
    int same = 0;
    int apart = 0;
    for (int y = 0; y < 40; ++y) {
      for (int x = 0; x < 60; ++x) {
        const bool entered = tunnel.codes(Layer::crossings)(x, y) > 0;
        if (!entered) continue;
        const float a = tunnel.values(Layer::ray_distance)(x, y);
        const float b = real.values(Layer::ray_distance)(x, y);
        const bool near = a == b || std::abs(a - b) < 1e-4f * b + 1e-3f;
        same += near;
        apart += !near;
      }
    }
    EXPECT_GT(same, 300) << length;
    EXPECT_LE(apart, same / 100) << length;
  }
}

TEST(Portals, StretchedSidesBendLanesAsTheShortestWayGoes) {
  // Into a box through its side, at an angle: of all places on the side the lane goes through the
  // one by which the way from eye to hit is shortest, lengths within counted by the stretch.
  Scene scene = with_materials();
  scene.room().name = "here";
  Portal portal;
  portal.name = "box";
  portal.opening = {.shape = OpeningShape::box, .size = {8, 2, 8}};
  portal.stance = {.at = {0, 2, 0}};
  portal.to = PortalTarget{.room = "inside"};
  const Vec3d stretch(3, 1, 1.5);
  portal.stretch = stretch;
  scene.room().portals.push_back(portal);
  scene.add_room("inside").add(field::plane({0, -1, 0}, -0.5));
  const Camera camera = Camera::look_at({-1, -1.5, 0.3}, {0.4, 1, -0.1}, degrees(40));
  for (const int x : {3, 10, 16}) {
    const LaneLog log = lane_of(scene, camera, exact(20, 12), x, 5);
    ASSERT_EQ(log.ending, Ending::hit);
    ASSERT_EQ(log.legs.size(), 2u);
    const Vec3d side = log.legs[0].meetings[0].place;
    const Vec3d end = log.legs[1].meetings[0].place;  // inside: around [0, 0, 0]
    const auto length = [&](const Vec3d& through) {
      const Vec3d within = (through - Vec3d(0, 2, 0)).cwiseProduct(stretch);
      return (through - camera.eye).norm() + (end - within).norm();
    };
    const double shortest = length(side);
    for (const double step : {-1e-2, 1e-2}) {
      EXPECT_GT(length(side + Vec3d(step, 0, 0)), shortest);
      EXPECT_GT(length(side + Vec3d(0, 0, step)), shortest);
    }
    EXPECT_NEAR(length(side + Vec3d(1e-4, 0, 0)), length(side - Vec3d(1e-4, 0, 0)), 1e-7);
    EXPECT_NEAR(length(side + Vec3d(0, 0, 1e-4)), length(side - Vec3d(0, 0, 1e-4)), 1e-7);
  }
  // Where it is shorter inside a flat lane finds no way in, and is turned back.
  scene.rooms[0].portals[0].stretch = {0.2, 1, 1};
  const Camera flat = Camera::look_at({-3.5, 0.6, 0}, {1, 1, 0}, degrees(10));
  const LaneLog back = lane_of(scene, flat, exact(9, 9), 4, 4);
  ASSERT_EQ(back.legs.size(), 2u);
  EXPECT_TRUE(back.legs[0].meetings[0].turned_back);
  EXPECT_EQ(back.room, 0u);
  EXPECT_NEAR(back.legs[1].way.y(), -back.legs[0].way.y(), 1e-7);
  EXPECT_NEAR(back.legs[1].way.x(), back.legs[0].way.x(), 1e-7);
}

TEST(Portals, LightComesThroughAsFromItsImage) {
  // A lamp in the next room lights the floor here through the door: as a lamp at its image does
  // where the door is a hole in a wall.
  const Stance here{{2, 0, 1}, pi};
  const Stance there{{0, 0, 1}, degrees(90)};
  const auto lit = [](Room& room) { room.light.ambient = {0, 0, 0}; };
  Scene scene = with_materials();
  scene.room().name = "here";
  lit(scene.room());
  scene.room().add(field::plane({0, 0, 1}, 0).made_of(0));
  Portal door;
  door.name = "door";
  door.opening = {.width = 1.2, .height = 2};
  door.stance = here;
  door.to = PortalTarget{.room = "there", .stance = there};
  scene.room().portals.push_back(door);
  Room& next = scene.add_room("there");
  lit(next);
  next.add(field::plane({0, 0, 1}, 0).made_of(0));
  const Lamp lamp{.place = {0.4, 1.5, 1.9}, .range = 9};
  next.light.lamps.push_back(lamp);

  Scene real = with_materials();
  lit(real.room());
  real.room().add(field::plane({0, 0, 1}, 0).made_of(0));
  // The wall around the door hides the rest of the light.
  real.room().add(
      field::place({2, 0, 2}, field::carve({field::box({0.001, 40, 4}),
                                            field::place({0, 0, -1}, field::box({1, 1.2, 2}))})));
  Lamp image = lamp;
  image.place = beyond(there, here, 1, lamp.place);
  // beyond() goes in at the front of its first stance: the way back.
  real.room().light.lamps.push_back(image);
  const Camera camera = Camera::look_at({-2, 1, 2.5}, {1, 0, 0}, degrees(50));
  Budget budget = exact(60, 40);
  const Frame through = render(compile(scene), camera, budget, test::with_layers(told));
  const Frame open = render(compile(real), camera, budget, test::with_layers(told));
  int bright = 0;
  int apart = 0;
  for (int y = 0; y < 40; ++y) {
    for (int x = 0; x < 60; ++x) {
      if (through.codes(Layer::crossings)(x, y) > 0 || through.codes(Layer::ending)(x, y) != 0) {
        continue;
      }
      const double hit = static_cast<double>(open.values(Layer::ray_distance)(x, y));
      if (std::abs(hit - static_cast<double>(through.values(Layer::ray_distance)(x, y))) > 1e-3) {
        continue;
      }
      const float a = through.values(Layer::color, 0)(x, y);
      const float b = open.values(Layer::color, 0)(x, y);
      bright += b > 0.01f;
      apart += std::abs(a - b) > 1e-3f;
    }
  }
  EXPECT_GT(bright, 60);
  EXPECT_LE(apart, bright / 20);  // along the edge of the light
  budget.light.crossings = 0;
  const Frame dark = render(compile(scene), camera, budget, test::with_layers(told));
  EXPECT_EQ(dark.values(Layer::color, 0)(30, 35), 0);
}

TEST(Portals, ARoomSeenThroughOneIsTheRoom) {
  // The whole Glasshouse in the evening, with textures, panes, sprites, lamps and wet tiles,
  // through an opening a centimeter before the eye: turned round, shifted, and at another scale.
  const io::SceneFile file = io::read_scene(PHOTONLANE_SOURCE "/demo/glasshouse-evening.yaml");
  Camera camera = file.camera;
  Budget budget = file.budget;
  const Size size{test::effort(64), test::effort(40)};
  budget.frame = {size.width, size.height, 1};
  budget.rays = Rays::pixels;
  budget.number = NumberType::float64;
  const LayerSet layers = LayerSet::measurable();
  const Frame plain = render(compile(file.scene), camera, budget, test::with_layers(layers));

  Scene scene = file.scene;
  scene.rooms[0].name = "house";
  Room& before = scene.add_room("before");
  before.fog = {.color = {0, 0, 0}, .start = 100, .end = 200};
  Portal hole;
  hole.name = "hole";
  hole.opening = {.width = 9, .height = 9};
  // In the other room everything is turned by 70 degrees and a fourth as large.
  const double turn = degrees(70);
  const Vec3d eye(-3, 4, 0.2);
  const Vec3d ahead(std::cos(camera.heading + turn), std::sin(camera.heading + turn), 0);
  hole.stance = {.at = eye + 0.01 * ahead, .heading = camera.heading + turn + pi};
  const Vec3d way(std::cos(camera.heading), std::sin(camera.heading), 0);
  hole.to = PortalTarget{.room = "house",
                         .stance = {.at = camera.eye + 0.04 * way, .heading = camera.heading},
                         .scale = 4};
  hole.one_way = true;
  before.portals.push_back(hole);
  Camera other = camera;
  other.room = "before";
  other.eye = eye;
  other.heading += turn;
  const Frame seen = render(compile(scene), other, budget, test::with_layers(layers));
  const Difference difference = compare(seen, plain);
  EXPECT_LT(difference.rmse, 1e-3);
  EXPECT_EQ(difference.share_other, 0);
  EXPECT_EQ(seen.tally.crossings, seen.tally.lanes);
  const int x = size.width / 2;
  const int y = size.height * 3 / 4;
  EXPECT_NEAR(seen.values(Layer::ray_distance)(x, y) * 4, plain.values(Layer::ray_distance)(x, y),
              1e-3);
}

}  // namespace
}  // namespace photonlane
