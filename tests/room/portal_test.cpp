// Portals: what is seen through them is what is there.

#include <gtest/gtest.h>

#include <cmath>

#include "photonlane/io.hpp"
#include "support/effort.hpp"
#include "support/portals.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using namespace test;  // NOLINT: all of it is about portals

TEST(Stances, FaceAsCamerasLook) {
  const Stance stance{{1, 2, 3}, degrees(40), degrees(-25), degrees(15)};
  const Viewing view = viewing(
      {.eye = {0, 0, 0}, .heading = degrees(40), .pitch = degrees(-25), .roll = degrees(15)},
      {64, 40});
  const Similarity frame = stance.frame();
  EXPECT_LT((frame.direction({1, 0, 0}) - view.forward).norm(), 1e-12);
  EXPECT_LT((frame.direction({0, -1, 0}) - view.right).norm(), 1e-12);
  EXPECT_LT((frame.direction({0, 0, 1}) - view.up).norm(), 1e-12);
  const Similarity both = frame.after(frame.inverse());
  EXPECT_LT((both.place({4, -5, 6}) - Vec3d(4, -5, 6)).norm(), 1e-12);
}

TEST(Portals, ShowWhatIsBeyondAsIfItWereThere) {
  // Behind one another: a portal of every flat shape, turned and scaled any way, before what its
  // target shows. The distances are those of a scene in which the things stand behind the opening.
  const Stance here{{0.3, 0.2, 1.1}, degrees(-75), degrees(10), degrees(20)};
  for (const double scale : {1.0, 0.5, 3.0}) {
    const Stance there{{0.5, 0.4, 0.9}, degrees(110), degrees(-5), degrees(8)};
    for (const OpeningShape shape :
         {OpeningShape::rectangle, OpeningShape::disc, OpeningShape::polygon}) {
      Scene scene = with_materials();
      scene.rooms.clear();
      Portal portal;
      portal.name = "door";
      portal.opening = {.shape = shape, .width = 1.4, .height = 2, .radius = 0.8};
      if (shape == OpeningShape::polygon) {
        portal.opening.corners = {{-0.7, -0.9}, {0.8, -0.6}, {0.5, 0.9}, {-0.6, 0.7}};
      }
      portal.stance = here;
      portal.to = PortalTarget{.portal = "", .room = "there", .stance = there, .scale = scale};
      scene.add_room("here").portals.push_back(portal);
      Room& other = scene.add_room("there");
      for (Field& thing : things()) other.add(std::move(thing));
      const Camera camera = Camera::look_at({0.2, -2.6, 1.4}, here.at, degrees(40));
      const Budget budget = exact(48, 30);
      const Frame seen = render(compile(scene), camera, budget, test::with_layers(told));

      // Looked at from where the eye is for those beyond.

      Camera image = camera;
      image.eye = beyond(here, there, scale, camera.eye);
      int through = 0;
      const Viewing view = viewing(camera, budget.frame.size());
      const CompiledField field(field::join(things()));
      for (int y = 0; y < 30; ++y) {
        for (int x = 0; x < 48; ++x) {
          const Vec3d way = view.ray(view.u(x + 0.5), view.v(y + 0.5));
          const Vec3d ahead =
              beyond(here, there, 1, camera.eye + way) - beyond(here, there, 1, camera.eye);
          if (seen.codes(Layer::crossings)(x, y) == 0) {
            EXPECT_EQ(seen.codes(Layer::ending)(x, y), 1u);
            continue;
          }
          ++through;
          EXPECT_EQ(seen.codes(Layer::room)(x, y), 1u);
          const float distance = seen.values(Layer::ray_distance)(x, y);
          if (!std::isfinite(distance)) continue;
          // What was met lies on the field, on a straight line through the opening, to 1e-5 of it.
          const double length = static_cast<double>(distance) * scale;
          EXPECT_NEAR(field.distance(image.eye + length * ahead), 0, 1e-5 * length + 1e-6)
              << name_of(shape) << " at " << x << "," << y;
        }
      }
      EXPECT_GT(through, 150) << name_of(shape) << " scaled by " << scale;
    }
  }
}

TEST(Portals, OpenExactlyWhereTheirShapeIs) {
  // Straight ahead a pixel at distance 1 is a square of known size.
  const auto share_through = [](const Opening& opening) {
    Scene scene = with_materials();
    scene.room().add(field::place({0, 0, -50}, field::sphere(1)));
    Portal portal;
    portal.name = "hole";
    portal.opening = opening;
    portal.stance = {.at = {0, 0, 0}, .heading = pi};
    portal.to = PortalTarget{.stance = {.at = {100, 0, 0}}};
    scene.room().portals.push_back(portal);
    const Camera camera{.eye = {-2, 0, 0}, .field_of_view = 2 * std::atan(0.5)};
    const Frame frame = render(compile(scene), camera, exact(200, 200), test::with_layers(told));
    int crossed = 0;
    for (int y = 0; y < 200; ++y) {
      for (int x = 0; x < 200; ++x) crossed += frame.codes(Layer::crossings)(x, y) > 0;
    }
    return crossed * 4.0 / (200 * 200);  // 2 m a side at the opening
  };
  EXPECT_NEAR(share_through({.shape = OpeningShape::rectangle, .width = 0.9, .height = 1.3}),
              0.9 * 1.3, 0.02);
  EXPECT_NEAR(share_through({.shape = OpeningShape::disc, .radius = 0.7}), pi * 0.49, 0.01);
  Opening triangle{.shape = OpeningShape::polygon};
  triangle.corners = {{-0.8, -0.5}, {0.8, -0.5}, {0, 0.9}};
  EXPECT_NEAR(share_through(triangle), 0.5 * 1.6 * 1.4, 0.01);
  // The silhouette of a ball, seen from 2 m: a disc of radius r / sqrt(1 - r^2 / 4).
  const double seen = 0.6 / std::sqrt(1 - 0.09);
  EXPECT_NEAR(share_through({.shape = OpeningShape::sphere, .radius = 0.6}), pi * seen * seen,
              0.01);
}

TEST(Portals, LeadBackUnlessOneWay) {
  // Into an empty place and out of it: behind the ball or box everything is as without it.
  for (const OpeningShape shape : {OpeningShape::sphere, OpeningShape::box}) {
    Scene scene = with_materials();
    for (Field& thing : things()) scene.room().add(std::move(thing));
    const Camera camera = Camera::look_at({0, -3, 0.6}, {0.2, 3, 0.5}, degrees(50));
    const Budget budget = exact(48, 30);
    const Frame plain = render(compile(scene), camera, budget, test::with_layers(told));
    scene.room().name = "here";
    Portal portal;
    portal.name = "bubble";
    portal.opening = {.shape = shape, .radius = 0.8, .size = {1.1, 0.9, 1.3}};
    portal.stance = {.at = {0.1, 0, 0.6}, .heading = degrees(25), .pitch = degrees(12)};
    portal.to =
        PortalTarget{.room = "empty",
                     .stance = {.at = {7, 8, 9}, .heading = degrees(140), .roll = degrees(31)},
                     .scale = 2.5};
    scene.room().portals.push_back(portal);
    scene.add_room("empty");
    const Frame seen = render(compile(scene), camera, budget, test::with_layers(told));
    int twice = 0;
    for (int y = 0; y < 30; ++y) {
      for (int x = 0; x < 48; ++x) {
        const std::uint32_t crossings = seen.codes(Layer::crossings)(x, y);
        EXPECT_TRUE(crossings == 0 || crossings == 2);
        twice += crossings == 2;
        const float before = plain.values(Layer::ray_distance)(x, y);
        const float now = seen.values(Layer::ray_distance)(x, y);
        EXPECT_EQ(std::isfinite(before), std::isfinite(now));
        if (!(before < 100)) continue;
        EXPECT_NEAR(now, before, 2e-5 * before + 1e-4);
      }
    }
    EXPECT_GT(twice, 200);

    scene.rooms[0].portals[0].one_way = true;
    const Frame gone = render(compile(scene), camera, budget, test::with_layers(told));
    for (int y = 0; y < 30; ++y) {
      for (int x = 0; x < 48; ++x) {
        if (seen.codes(Layer::crossings)(x, y) == 0) continue;
        EXPECT_EQ(gone.codes(Layer::crossings)(x, y), 1u);
        EXPECT_EQ(gone.codes(Layer::room)(x, y), 1u);
      }
    }
  }
}

TEST(Portals, FromBehindAreTheSameOpenOrShut) {
  Scene scene = with_materials();
  scene.room().name = "here";
  scene.room().add(field::place({5, 0, 0}, field::box({0.1, 9, 9})));
  Portal portal;
  portal.name = "door";
  portal.opening = {.width = 4, .height = 4};
  portal.stance = {.at = {2, 0, 0}};  // its front looks east; it is looked at from the west
  portal.to = PortalTarget{.room = "there", .stance = {.at = {0, 0, 0}}};
  scene.room().portals.push_back(portal);
  scene.add_room("there").add(field::place({-7, 0, 0}, field::box({0.1, 9, 9})));
  const Camera camera{.eye = {0, 0.2, 0.1}, .field_of_view = degrees(5)};
  const auto look = [&](Behind behind) {
    scene.rooms[0].portals[0].behind = behind;
    return lane_of(scene, camera, exact(9, 9), 4, 4);
  };
  // Behind where it leads lanes go on the other way.
  const LaneLog same = look(Behind::same);
  EXPECT_EQ(same.room, 1u);
  EXPECT_NEAR(same.ray_distance, 2 + 6.95, 1e-4);
  const LaneLog open = look(Behind::open);
  EXPECT_EQ(open.crossings, 0u);
  EXPECT_NEAR(open.ray_distance, 4.95, 1e-4);
  const LaneLog shut = look(Behind::shut);
  EXPECT_EQ(shut.crossings, 0u);
  EXPECT_NEAR(shut.ray_distance, 2, 1e-4);
  EXPECT_EQ(shut.ending, Ending::hit);
}

/// A hall along x whose sections of 4 m repeat: by a portal at either end, or built for real.
Scene hall(bool portals, int sections) {
  Scene scene = with_materials();
  Room& room = scene.room();
  room.fog = {.color = {0.3f, 0.35f, 0.45f}, .start = 3, .end = 60};
  room.light.ambient = {0.3f, 0.3f, 0.3f};
  const auto put = [&](const Field& field) {
    room.add(portals ? field : field::repeat({4, 0, 0}, {2.0 * sections + 1, 1, 1}, field));
  };
  room.add(field::plane({0, 0, 1}, 0).made_of(0));
  room.add(field::plane({0, -1, 0}, -1.5).made_of(1));
  room.add(field::plane({0, 1, 0}, -1.5).made_of(1));
  room.add(field::plane({0, 0, -1}, -3).made_of(0));
  put(field::place({0.3, 0.9, 1.5}, field::cylinder(0.2, 3)).made_of(2));
  put(field::place({-0.7, -0.8, 0.3}, field::sphere(0.3)).made_of(1));
  const int lamps = portals ? 0 : sections;
  for (int k = -lamps; k <= lamps; ++k) {
    room.light.lamps.push_back({.place = {4.0 * k, 0, 2.4}, .range = 3.5, .radius = 0.01});
  }
  if (!portals) return scene;
  Portal west;
  west.name = "west";
  west.opening = {.width = 3, .height = 3};
  west.stance = {.at = {-2, 0, 1.5}};
  west.to = PortalTarget{.portal = "east"};
  Portal east = west;
  east.name = "east";
  east.stance = {.at = {2, 0, 1.5}, .heading = pi};
  east.to = PortalTarget{.portal = "west"};
  room.portals = {west, east};
  return scene;
}

TEST(Portals, AHallWithoutEndLooksLikeALongRealOne) {
  const Camera camera{.eye = {-1.2, 0.2, 1.5}, .heading = degrees(6), .field_of_view = degrees(60)};
  Budget budget = exact(96, 60);
  budget.crossings.limit = 40;
  const Frame endless =
      render(compile(hall(true, 0)), camera, budget, test::with_layers(LayerSet::measurable()));
  const Frame real =
      render(compile(hall(false, 20)), camera, budget, test::with_layers(LayerSet::measurable()));
  double square = 0;
  int apart = 0;
  for (int y = 0; y < 60; ++y) {
    for (int x = 0; x < 96; ++x) {
      const float a = endless.values(Layer::ray_distance)(x, y);
      const float b = real.values(Layer::ray_distance)(x, y);
      // Beyond the fog nobody sees where they end.
      if (std::min(a, b) < 60 && std::abs(a - b) > 1e-3f * b + 1e-3f) {
        ++apart;
        continue;
      }
      for (int c = 0; c < 3; ++c) {
        square +=
            std::pow(endless.values(Layer::color, c)(x, y) - real.values(Layer::color, c)(x, y), 2);
      }
    }
  }
  EXPECT_LT(std::sqrt(square / (96 * 60 * 3)), 1e-3);
  EXPECT_LE(apart, 3);  // on silhouettes
  EXPECT_GT(endless.tally.crossings, 3000u);
}

TEST(Portals, ARoomTurnedAroundLooksLikeThePlaneMirror) {
  // A mirror at x = 2, against an opening of its size behind which all stands the other way round.
  const auto side = [](Room& room, bool turned) {
    const auto x = [&](double value) { return turned ? 4 - value : value; };
    // Each room has a fog of its own.
    room.fog.start = 100;
    room.fog.end = 200;
    room.light.ambient = {0.3f, 0.32f, 0.35f};
    // Where the mirror does not show the lamp itself.
    room.light.lamps = {{.place = {x(-2.5), -4, 2.8}, .range = 14, .radius = 0.01}};
    room.add(field::plane({0, 0, 1}, 0).made_of(0));
    room.add(field::place({x(-3), 0, 1.5}, field::box({0.2, 9, 5})).made_of(1));
    room.add(field::place({x(0.6), 0.5, 0.5}, field::sphere(0.5)).made_of(1));
    room.add(field::place({x(1.1), -0.8, 0.4}, field::box({0.5, 0.3, 0.8})).made_of(2));
  };
  const Field slab = field::place({2.1, 0, 1.2}, field::box({0.2, 3, 2.4}));
  Scene mirror = with_materials();
  mirror.wall({.base = {1, 1, 1}, .metal = 1}, "silver");
  side(mirror.room(), false);
  mirror.room().add(slab.made_of(3));

  Scene pair = with_materials();
  side(pair.room(), false);
  pair.room().name = "here";
  pair.room().add(slab.made_of(0));
  Portal portal;
  portal.name = "silver";
  portal.opening = {.width = 3, .height = 2.4};
  portal.stance = {.at = {2, 0, 1.2}, .heading = pi};
  portal.to = PortalTarget{.room = "other way round", .stance = {.at = {2, 0, 1.2}}};
  portal.one_way = true;
  pair.room().portals.push_back(portal);
  side(pair.add_room("other way round"), true);

  const Camera camera = Camera::look_at({-1.5, -0.9, 1.6}, {2, 0.2, 1.1}, degrees(55));
  Budget budget = exact(160, 100);
  // A mirror throws no light on what stands before it.
  budget.light.crossings = 0;
  const auto seen_of = [&](const Scene& scene) {
    return render(compile(scene), camera, budget,
                  test::with_layers({Layer::color, Layer::crossings}));
  };
  const Frame reflected = seen_of(mirror);
  const Frame through = seen_of(pair);
  // But for silhouettes, where a lane thrown back starts a little before the mirror.
  double squares = 0;
  int other = 0;
  for (int y = 0; y < 100; ++y) {
    for (int x = 0; x < 160; ++x) {
      const float off =
          std::abs(through.values(Layer::color)(x, y) - reflected.values(Layer::color)(x, y));
      other += off > 0.01f;
      if (off <= 0.01f) squares += static_cast<double>(off * off);
    }
  }
  EXPECT_LT(other, 40);
  EXPECT_LT(std::sqrt(squares / (160 * 100)), 1e-3);
  int seen = 0;
  for (const std::uint32_t crossings : through.codes(Layer::crossings).row(50)) seen += crossings;
  EXPECT_GT(seen, 70);
}

TEST(Portals, BallsOpenFromWithinAreLeftStraight) {
  Scene scene = with_materials();
  scene.room().name = "here";
  scene.room().add(field::place({6, 0, 0}, field::box({1, 20, 20})));
  Portal portal;
  portal.name = "ball";
  portal.opening = {.shape = OpeningShape::sphere, .radius = 1};
  portal.behind = Behind::open;
  portal.to = PortalTarget{.room = "there", .stance = {.at = {0, 0, 0}}};
  portal.one_way = true;
  scene.room().portals.push_back(portal);
  scene.add_room("there").add(field::place({4, 0, 0}, field::box({1, 20, 20})));
  const auto ahead_from = [&](double x) {
    return lane_of(scene, {.eye = {x, 0.2, 0.1}, .field_of_view = degrees(3)}, exact(9, 9), 4, 4);
  };
  const LaneLog within = ahead_from(0.3);
  EXPECT_EQ(within.crossings, 0u);
  EXPECT_NEAR(within.ray_distance, 5.2, 1e-4);
  const LaneLog outside = ahead_from(-3);
  EXPECT_EQ(outside.crossings, 1u);
  EXPECT_EQ(outside.room, 1u);
  EXPECT_NEAR(outside.ray_distance, 6.5, 1e-4);
  // Past it, from the other side.
  EXPECT_EQ(ahead_from(1.5).crossings, 0u);
}

TEST(Portals, LanesOutOfCrossingsAreSpentOrShowTheFallback) {
  Scene scene = hall(true, 0);
  scene.room().fog = {.color = {0, 0, 0}, .start = 1000, .end = 2000};
  Budget budget = exact(33, 21);
  budget.crossings.limit = 3;
  const Camera camera{.eye = {-1.2, 0.2, 1.5}, .field_of_view = degrees(20)};
  const LaneLog spent = lane_of(scene, camera, budget, 16, 10);
  EXPECT_EQ(spent.ending, Ending::spent);
  EXPECT_EQ(spent.crossings, 3u);
  EXPECT_LT((spent.color - spent_color).abs().maxCoeff(), 1e-6f);
  scene.room().portals[1].fallback = Color(0.2f, 0.4f, 0.1f);
  const LaneLog fallen = lane_of(scene, camera, budget, 16, 10);
  EXPECT_EQ(fallen.ending, Ending::spent);
  EXPECT_LT((fallen.color - Color(0.2f, 0.4f, 0.1f)).abs().maxCoeff(), 1e-6f);
  budget.crossings.limit = 0;
  EXPECT_EQ(lane_of(scene, camera, budget, 16, 10).crossings, 0u);
}

TEST(Portals, CostGrowsWithTheLegsNotWithTheNesting) {
  // Every view shows two more, yet each lane goes one way.
  Scene scene = hall(true, 0);
  scene.room().fog = {.color = {0, 0, 0}, .start = 1000, .end = 2000};
  const Camera camera{.eye = {-1.2, 0.2, 1.5}, .field_of_view = degrees(60)};
  for (const int limit : {4, 16, 64}) {
    Budget budget = exact(64, 40);
    budget.crossings.limit = limit;
    const Frame frame = render(compile(scene), camera, budget, test::with_layers(told));
    EXPECT_LE(frame.tally.crossings, static_cast<std::uint64_t>(64 * 40 * limit));
    EXPECT_EQ(frame.tally.lanes, 64u * 40u);
    EXPECT_EQ(frame.tally.hits + frame.tally.escaped + frame.tally.spent, frame.tally.lanes);
  }
}

TEST(Portals, GiveTheSameBytesForEveryVectorWidthAndThreadCount) {
  const World world = compile(hall(true, 0));
  const Camera camera{.eye = {-1.2, 0.2, 1.5}, .heading = degrees(6), .field_of_view = degrees(60)};
  Budget budget;
  budget.frame = {96, 60, 2};
  std::uint64_t expected = 0;
  test::for_each_target([&](const char* target) {
    for (const int threads : {1, 3}) {
      const Frame frame = render(world, camera, budget, test::with_layers(told, threads));
      std::uint64_t hash = test::hash_of(frame, Layer::color);
      hash ^= test::hash_of(frame, Layer::ray_distance) * 3;
      if (expected == 0) expected = hash;
      EXPECT_EQ(hash, expected) << target << ", " << threads << " threads";
    }
  });
}

TEST(Portals, LeaveTheWallTheyLieIn) {
  // Out of the plane of a wall, at any angle, the way is free to the wall across.
  Scene scene = with_materials();
  scene.room().name = "here";
  Portal door;
  door.name = "door";
  door.opening = {.width = 2, .height = 2};
  door.stance = {.at = {2, 0, 0}, .heading = pi};
  door.to = PortalTarget{.room = "there", .stance = {.at = {0, 0, 0}}, .scale = 2.4};
  scene.room().portals.push_back(door);
  Room& there = scene.add_room("there");
  there.add(field::place({-1, 0, 0}, field::box({2, 40, 40})));
  there.add(field::place({6, 0, 0}, field::box({2, 400, 400})));
  Budget budget;
  budget.frame = {80, 50, 1};
  const Camera camera{.eye = {1.7, 0, 0}, .field_of_view = degrees(120)};
  for (const NumberType number : {NumberType::float32, NumberType::float64}) {
    budget.number = number;
    const Frame frame = render(compile(scene), camera, budget, test::with_layers(told));
    int through = 0;
    for (int y = 0; y < 50; ++y) {
      for (int x = 0; x < 80; ++x) {
        if (frame.codes(Layer::crossings)(x, y) == 0) continue;
        ++through;
        EXPECT_NEAR(frame.values(Layer::depth)(x, y), 0.3 + 5 / 2.4, 1e-2) << x << "," << y;
      }
    }
    EXPECT_GT(through, 2000);
  }
}

TEST(Portals, SizesOfPairsMakeTheScale) {
  Scene scene = with_materials();
  Portal small;
  small.name = "small";
  small.opening = {.width = 0.5, .height = 1};
  small.stance = {.at = {2, 0, 0}, .heading = pi};
  small.to = PortalTarget{.portal = "large"};
  Portal large = small;
  large.name = "large";
  large.opening = {.width = 2, .height = 4};
  large.stance = {.at = {10, 0, 0}};
  large.to.reset();  // back to where it is led to from
  scene.room().portals = {small, large};
  scene.room().add(field::place({18, 0, 0}, field::box({0.1, 9, 9})));
  const Camera camera{.eye = {0, 0, 0}, .field_of_view = degrees(5)};
  const LaneLog log = lane_of(scene, camera, exact(9, 9), 4, 4);
  EXPECT_EQ(log.crossings, 1u);
  EXPECT_NEAR(log.legs.back().scale, 4, 1e-9);
  // 7.95 m there are a quarter of that here.
  EXPECT_NEAR(log.ray_distance, 2 + 7.95 / 4, 1e-3);
}

TEST(Portals, RefuseWhatCannotBe) {
  const auto message = [](const auto& change) -> std::string {
    Scene scene = with_materials();
    scene.room().name = "here";
    scene.room().add(field::sphere(1));
    Portal door;
    door.name = "door";
    door.to = PortalTarget{.room = "there"};
    scene.room().portals = {door};
    scene.add_room("there");
    change(scene, scene.rooms[0].portals);
    try {
      compile(scene);
    } catch (const Error& error) {
      return error.message();
    }
    return "";
  };
  using Portals = std::vector<Portal>;
  EXPECT_EQ(message([](Scene&, Portals&) {}), "");
  EXPECT_EQ(message([](Scene&, Portals& p) { p[0].to->room = "theer"; }),
            "portal 'door': no room 'theer'; did you mean there?");
  EXPECT_EQ(message([](Scene&, Portals& p) { p[0].to->portal = "dor"; }),
            "portal 'door': no portal 'dor'; did you mean door?");
  EXPECT_EQ(message([](Scene&, Portals& p) { p[0].to.reset(); }),
            "portal 'door': leads nowhere, expected a target 'to'");
  EXPECT_NE(message([](Scene&, Portals& p) { p.push_back(p[0]); }).find("a second one"),
            std::string::npos);
  EXPECT_NE(message([](Scene&, Portals& p) { p[0].opening.width = 0; }).find("width"),
            std::string::npos);
  EXPECT_NE(message([](Scene&, Portals& p) { p[0].to->scale = 0; }).find("scale"),
            std::string::npos);
  EXPECT_NE(message([](Scene&, Portals& p) { p[0].to->scale = -1; }).find("scale"),
            std::string::npos);
  EXPECT_EQ(message([](Scene&, Portals& p) {
              p[0].stretch = {2, 1, 1};
            }),
            "portal 'door': a stretched rectangle, expected a box");
  EXPECT_NE(message([](Scene&, Portals& p) {
              p[0].opening = {.shape = OpeningShape::box};
              p[0].stretch = {200, 1, 1};
            }).find("stretch"),
            std::string::npos);
  EXPECT_NE(message([](Scene&, Portals& p) {
              p[0].opening = {.shape = OpeningShape::polygon};
              p[0].opening.corners = {{0, 0}, {0, 1}, {1, 0}};
            }).find("counterclockwise"),
            std::string::npos);
  EXPECT_EQ(message([](Scene&, Portals& p) {
              Portal ball;
              ball.name = "ball";
              ball.opening = {.shape = OpeningShape::sphere};
              p.push_back(ball);
              p[0].to->portal = "ball";
            }),
            "portal 'door': a rectangle that leads to 'ball', a sphere");
  EXPECT_EQ(message([](Scene& scene, Portals&) { scene.rooms[1].name = "here"; }),
            "a second room 'here'");
}

TEST(Portals, CoincidentFacesThatLeadToOneAnotherEnd) {
  // A loop of no length: defined by the limit, not a hang.
  Scene scene = with_materials();
  scene.room().add(field::place({0, 0, -9}, field::sphere(1)));
  Portal one;
  one.name = "one";
  one.opening = {.width = 2, .height = 2};
  one.stance = {.at = {2, 0, 0}, .heading = pi};
  one.to = PortalTarget{.portal = "two"};
  Portal two = one;
  two.name = "two";
  two.stance.heading = 0;
  two.to = PortalTarget{.portal = "one"};
  scene.room().portals = {one, two};
  const Camera camera{.eye = {0, 0, 0}, .field_of_view = degrees(20)};
  const LaneLog log = lane_of(scene, camera, exact(9, 9), 4, 4);
  EXPECT_LE(log.crossings, 256u);
}

}  // namespace
}  // namespace photonlane
