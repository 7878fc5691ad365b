// Light that goes by paths against closed forms and sums of its own.

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "support/effort.hpp"
#include "support/paths.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using test::mean_radiance;
using test::path_budget;
using test::path_frame;
using test::pinhole;

/// So many samples in all, over a few pixels that see the same.
Budget point_budget(int samples, int bounces) {
  return path_budget(16, 8, std::max(1, test::effort(samples) / 128), bounces);
}

/// A floor of a material without end under an open sky, or under none.
Scene floor_scene(const Material& material) {
  Scene scene;
  const Cell cell = scene.wall(material, "floor");
  test::empty_air(scene.room());
  scene.room().add(field::plane({0, 0, 1}, 0).made_of(static_cast<int>(material_of(cell))));
  return scene;
}

TEST(Paths, ConvexSurfacesUnderAnEvenSkyShowTheirAlbedo) {
  Scene scene;
  test::empty_air(scene.room());
  scene.room().sky = Sky{.zenith = {0.5f, 0.5f, 0.5f}, .horizon = {0.5f, 0.5f, 0.5f}};
  scene.wall({.base = {0.3f, 0.6f, 0.9f}}, "ball");
  Spheres ball({{.center = {0, 0, 0}, .radius = 1}}, 0);
  scene.room().add(ball);
  const Camera camera = Camera::look_at({0, -4, 0.5}, {0, 0, 0}, degrees(12));
  const Frame frame = path_frame(scene, camera, path_budget(24, 24, 16, 4));
  for (int channel = 0; channel < 3; ++channel) {
    const float expected = 0.5f * (0.3f + 0.3f * static_cast<float>(channel));
    const auto mean = mean_radiance(frame, channel);
    EXPECT_NEAR(mean.value, expected, 5 * mean.error + 1e-4) << channel;
  }
}

TEST(Paths, WhiteSurfacesVanishBeforeAWhiteSky) {
  // Of every kind, and from inside out: spheres that lose no light cannot be seen.
  std::vector<Material> kinds{{.base = {1, 1, 1}},
                              {.base = {1, 1, 1}, .roughness = 0.7, .metal = 1},
                              {.base = {1, 1, 1}, .metal = 1},
                              {.base = {1, 1, 1}, .roughness = 0.3, .specular = 0.05},
                              {.base = {1, 1, 1}, .opacity = 0, .index = 1.5},
                              {.base = {1, 1, 1}, .opacity = 0, .roughness = 0.5, .index = 1.5},
                              {.base = {1, 1, 1}, .opacity = 0.4, .specular = 0.1}};
  for (std::size_t k = 0; k < kinds.size(); ++k) {
    Scene scene;
    test::empty_air(scene.room());
    scene.room().sky = Sky{.zenith = {1, 1, 1}, .horizon = {1, 1, 1}};
    scene.wall(kinds[k], "ball");
    scene.room().add(Spheres({{.center = {0, 0, 0}, .radius = 1}}, 0));
    const Camera camera = Camera::look_at({0, -4, 0.5}, {0, 0, 0}, degrees(40));
    Budget budget = path_budget(32, 32, test::effort(32), 200);
    budget.passes.limit = 200;
    const auto mean = mean_radiance(path_frame(scene, camera, budget));
    EXPECT_NEAR(mean.value, 1, 0.012 + 5 * mean.error) << k;
  }
}

TEST(Paths, PlatesWithoutEndThrowLightToAndFroAsTheirSumSays) {
  // B0 = E + a0 B1 and B1 = a1 B0: all that leaves one plate meets the other.
  constexpr float emitted = 0.1f;
  constexpr float below = 0.8f;
  constexpr float above = 0.7f;
  Scene scene =
      floor_scene({.base = {below, below, below}, .emission = {emitted, emitted, emitted}});
  const Cell upper = scene.wall({.base = {above, above, above}}, "upper");
  scene.room().add(field::plane({0, 0, -1}, -2).made_of(static_cast<int>(material_of(upper))));
  const double floor_light = emitted / (1 - below * above);
  const Budget budget = point_budget(20000, 200);
  const auto lower = mean_radiance(path_frame(scene, pinhole({0, 0, 1}, {0.3, 0.2, 0}), budget));
  EXPECT_NEAR(lower.value, floor_light, 5 * lower.error + 0.002 * floor_light);
  EXPECT_LT(lower.error, 0.01 * floor_light);
  const auto higher = mean_radiance(path_frame(scene, pinhole({0, 0, 1}, {0.3, 0.2, 2}), budget));
  EXPECT_NEAR(higher.value, above * floor_light, 5 * higher.error + 0.002 * floor_light);
}

TEST(Paths, AClosedRoomThatGlowsIsAsBrightAsTheSumOfAllItsBounces) {
  for (const float albedo : {0.0f, 0.5f, 0.8f}) {
    const Scene scene = test::glowing_room(albedo, 0.1f);
    const Camera camera = test::in_room();
    const Budget budget = path_budget(24, 16, test::effort(32), 200);
    const Frame frame =
        path_frame(scene, camera, budget, {Layer::radiance, Layer::light_0, Layer::light_2});
    const auto mean = mean_radiance(frame);
    EXPECT_NEAR(mean.value, 0.1 / (1 - static_cast<double>(albedo)), 5 * mean.error + 1e-5)
        << albedo;
    // Each bounce brings its power of the albedo.
    double twice = 0;
    for (int y = 0; y < 16; ++y) {
      for (const float value : frame.values(Layer::light_2, 1).row(y)) {
        twice += static_cast<double>(value) / (24 * 16);
      }
    }
    EXPECT_NEAR(twice, 0.1 * static_cast<double>(albedo * albedo), 5 * mean.error + 2e-4);
    EXPECT_NEAR(frame.values(Layer::light_0, 1)(3, 3), 0.1f, 1e-6f);
  }
}

TEST(Paths, AnyLimitOfBouncesCutsTheSumOfThemThere) {
  const Scene scene = test::glowing_room(0.5f, 0.1f);
  const Camera camera = test::in_room();
  for (const int limit : {0, 1, 2, 5}) {
    double expected = 0;
    for (int k = 0; k <= limit; ++k) expected += 0.1 * std::pow(0.5, k);
    const auto mean =
        mean_radiance(path_frame(scene, camera, path_budget(24, 16, test::effort(32), limit)));
    EXPECT_NEAR(mean.value, expected, 5 * mean.error + 1e-5) << limit;
  }
}

TEST(Paths, ALampLightsByItsFluxAndTheSquareOfItsDistance) {
  // A ball wholly above the plane lights it as if it were a point (Lambert): E = flux cos / (4 pi
  // d^2), whatever its size.
  for (const double radius : {0.01, 0.2, 0.9}) {
    Scene scene = floor_scene({.base = {0.5f, 0.5f, 0.5f}});
    Lamp lamp{.place = {1, 0.5, 1}, .color = {1, 1, 1}, .range = 100, .radius = radius};
    lamp.power = 20;
    scene.room().light.lamps.push_back(lamp);
    const double square = 1 + 0.25 + 1;
    const double irradiance = 20 / (4 * pi * square) / std::sqrt(square);
    const auto mean =
        mean_radiance(path_frame(scene, pinhole({0, -1, 1}, {0, 0, 0}), point_budget(40000, 1)));
    EXPECT_NEAR(mean.value, 0.5 / pi * irradiance, 5 * mean.error + 1e-4 * mean.value) << radius;
  }
}

TEST(Paths, ALampThatIsFoundByBouncingAloneBringsTheSame) {
  // Seen in a rough mirror the light is found both ways; what either finds alone must agree.
  Scene scene = floor_scene({.base = {0.9f, 0.9f, 0.9f}, .roughness = 0.4, .metal = 1});
  Lamp lamp{.place = {0, 1, 1}, .color = {1, 1, 1}, .range = 100, .radius = 0.5};
  lamp.power = 10;
  scene.room().light.lamps.push_back(lamp);
  const Camera camera = pinhole({0, -1, 1}, {0, 0, 0});
  const auto both = mean_radiance(path_frame(scene, camera, point_budget(60000, 1)));
  // As a ball that emits as a field, which is found by chance.
  scene.room().light.lamps.clear();
  const double radiance = 10 / (4 * pi * pi * 0.25);
  const auto bright = static_cast<float>(radiance);
  const Cell glow = scene.wall({.base = {0, 0, 0}, .emission = {bright, bright, bright}}, "glow");
  scene.room().add(
      field::place({0, 1, 1}, field::sphere(0.5)).made_of(static_cast<int>(material_of(glow))));
  const auto chance = mean_radiance(path_frame(scene, camera, point_budget(400000, 1)));
  EXPECT_NEAR(both.value, chance.value, 5 * std::hypot(both.error, chance.error));
  // And as a ball of a set of spheres, which is sought.
  scene.room().fields.pop_back();
  scene.room().add(
      Spheres({{.center = {0, 1, 1}, .radius = 0.5}}, static_cast<int>(material_of(glow))));
  const auto sought = mean_radiance(path_frame(scene, camera, point_budget(60000, 1)));
  EXPECT_NEAR(both.value, sought.value, 5 * std::hypot(both.error, sought.error));
}

TEST(Paths, TheSunLightsByItsStrengthWhateverItsSize) {
  for (const double size : {0.0, 0.53, 20.0}) {
    Scene scene = floor_scene({.base = {0.5f, 0.5f, 0.5f}});
    scene.room().light.sun = Sun{.heading = 1,
                                 .elevation = degrees(40),
                                 .color = {1, 0.5f, 0.25f},
                                 .size = degrees(size),
                                 .strength = 3};
    const Frame frame = path_frame(scene, pinhole({0, -1, 1}, {0, 0, 0}), point_budget(20000, 1));
    const auto mean = mean_radiance(frame, 1);
    // A disc that is above the horizon lights as much as its middle would.
    EXPECT_NEAR(mean.value, 0.5 * 3 * 0.5 * std::sin(degrees(40)), 5 * mean.error + 1e-4) << size;
  }
}

TEST(Paths, AnUnevenSkyLightsAsTheSumOverItSays) {
  Scene scene = floor_scene({.base = {0.7f, 0.7f, 0.7f}});
  scene.room().sky = Sky{.zenith = {0.1f, 0.2f, 0.9f}, .horizon = {1, 0.6f, 0.3f}};
  scene.room().sky->strength = 2;
  const Frame frame = path_frame(scene, pinhole({0, -1, 1}, {0, 0, 0}), point_budget(60000, 1));
  for (int channel = 0; channel < 3; ++channel) {
    double sum = 0;
    constexpr int parts = 2000;
    for (int k = 0; k < parts; ++k) {
      const double z = (k + 0.5) / parts;
      const Color color =
          sky_color(*scene.room().sky, scene.room().fog.color, static_cast<float>(z));
      sum += 2 * static_cast<double>(color[channel]) * 2 * z / parts;
    }
    const auto mean = mean_radiance(frame, channel);
    EXPECT_NEAR(mean.value, 0.7 * sum, 5 * mean.error + 1e-4) << channel;
  }
}

TEST(Paths, APanoramaLightsByItsBrightPlaces) {
  // Half of the sky is bright: that toward the east.
  Texture texture;
  texture.width = 64;
  texture.height = 32;
  std::vector<std::uint32_t> texels(64 * 32, 0xff000000u);
  for (int y = 0; y < 32; ++y) {
    for (int x = 16; x < 48; ++x) texels[static_cast<std::size_t>(y * 64 + x)] = 0xffffffffu;
  }
  texture.texels = texels;
  Scene scene = floor_scene({.base = {0.8f, 0.8f, 0.8f}});
  const int index = scene.add(texture, "panorama");
  scene.room().sky = Sky{};
  scene.room().sky->panorama = index;
  const auto mean =
      mean_radiance(path_frame(scene, pinhole({0, -1, 1}, {0, 0, 0}), point_budget(60000, 1)));
  EXPECT_NEAR(mean.value, 0.4, 5 * mean.error + 2e-3);
}

TEST(Paths, ASquareLampLightsAsItsFormFactorSays) {
  // A cell that emits, from the middle before one of its faces: the integral by small parts.
  Scene scene = test::drawn("...\n.#.\n...");
  test::empty_air(scene.room());
  scene.materials[0] = {.base = {0, 0, 0}, .emission = {3, 3, 3}};
  scene.room().floor = {.base = {0.5f, 0.5f, 0.5f}};
  scene.room().has_ceiling = false;
  scene.room().cell_map().wall_height = 1;
  const auto mean = mean_radiance(
      path_frame(scene, pinhole({1.5, 0.2, 0.9}, {1.5, 0.5, 0}), point_budget(60000, 1)));
  double irradiance = 0;
  constexpr int parts = 400;
  for (int i = 0; i < parts; ++i) {
    for (int j = 0; j < parts; ++j) {
      const Vec3d at(1 + (i + 0.5) / parts, 1, (j + 0.5) / parts);
      const Vec3d to = at - Vec3d(1.5, 0.5, 0);
      const double square = to.squaredNorm();
      irradiance += 3 * (to.z() / std::sqrt(square)) * (to.y() / std::sqrt(square)) / square /
                    (parts * parts);
    }
  }
  EXPECT_NEAR(mean.value, 0.5 / pi * irradiance, 5 * mean.error + 1e-3 * mean.value);
}

TEST(Paths, GlassTakesWhatBeersLawSays) {
  // Straight through a slab: twice what Fresnel lets in, with what is thrown back and forth.
  Scene scene;
  test::empty_air(scene.room());
  scene.room().sky = Sky{.zenith = {1, 1, 1}, .horizon = {1, 1, 1}};
  scene.wall({.base = {0, 0, 0}, .opacity = 0, .index = 1.5, .absorption = {0.5f, 1, 2}}, "slab");
  scene.room().add(field::box({4, 0.8, 4}).made_of(0));
  const Camera camera = pinhole({0, -3, 0}, {0, 0, 0});
  const Frame frame = path_frame(scene, camera, point_budget(60000, 60));
  for (int channel = 0; channel < 3; ++channel) {
    const double thrown = 0.04;
    const double left = std::exp(-0.8 * 0.5 * std::pow(2.0, channel));
    // The sky is as bright behind the eye.
    const double through = (1 - thrown) * (1 - thrown) * left / (1 - thrown * thrown * left * left);
    const double back = thrown + (1 - thrown) * (1 - thrown) * thrown * left * left /
                                     (1 - thrown * thrown * left * left);
    const auto mean = mean_radiance(frame, channel);
    EXPECT_NEAR(mean.value, through + back, 5 * mean.error + 2e-4) << channel;
  }
}

TEST(Paths, ThinPanesThrowBackFromBothSides) {
  Scene scene = test::drawn("#####\n#...#\n#.A.#\n#...#\n#####");
  test::empty_air(scene.room());
  for (Material* material : {&scene.materials[0], &scene.room().floor, &scene.room().ceiling}) {
    *material = {.base = {0, 0, 0}};
  }
  scene.materials[0].emission = {1, 1, 1};
  scene.materials[1] = {.base = {0, 0, 0}, .opacity = 0, .index = 1.5};
  scene.room().cell_map().set_form(2, 2, CellForm{.shape = CellShape::pane});
  const double once = 0.04;
  const double back = 2 * once / (1 + once);
  // Straight on: what is behind it through the pane, and what is before it thrown back.
  const auto mean = mean_radiance(
      path_frame(scene, pinhole({2.5, 1.2, 1.5}, {2.5, 2.5, 1.5}), point_budget(20000, 1)));
  EXPECT_NEAR(mean.value, 1, 1e-5);
  Scene dark = scene;
  dark.materials[0].emission = {0, 0, 0};
  dark.materials.push_back({.base = {0, 0, 0}, .emission = {1, 1, 1}});
  for (int x = 0; x < 5; ++x) dark.room().cell_map().at(x, 4) = wall_of(2);
  const auto through = mean_radiance(
      path_frame(dark, pinhole({2.5, 1.2, 1.5}, {2.5, 2.5, 1.5}), point_budget(40000, 1)));
  EXPECT_NEAR(through.value, 1 - back, 5 * through.error + 1e-4);
}

TEST(Paths, FogTakesAndThrowsOnAsTheIntegralAlongTheLegSays) {
  Scene scene;
  test::empty_air(scene.room());
  Room& room = scene.room();
  room.fog = {.color = {0.8f, 0.8f, 0.8f}, .start = 0, .end = 4};
  room.sky = Sky{.zenith = {0, 0, 0}, .horizon = {0, 0, 0}};
  const double extinction = fog_extinction(room.fog);
  EXPECT_NEAR(std::exp(-extinction * 2), 0.5, 1e-12);
  scene.wall({.base = {0, 0, 0}, .emission = {2, 2, 2}}, "wall");
  room.add(field::place({0, 3.5, 0}, field::box({1, 1, 1})).made_of(0));
  const Camera camera = pinhole({0, 0, 0}, {0, 3, 0});
  // No light but the wall's, whose way is 3 m.
  const auto faded = mean_radiance(path_frame(scene, camera, point_budget(2000, 0)));
  EXPECT_NEAR(faded.value, 2 * std::exp(-3 * extinction), 1e-5);
  // A sun from the side that nothing is before.
  room.light.sun = Sun{.heading = 0, .elevation = degrees(30), .color = {1, 1, 1}};
  const auto sun = mean_radiance(path_frame(scene, camera, point_budget(60000, 1)));
  const double lit = 0.8 * pi / (4 * pi) * (1 - std::exp(-3 * extinction));
  EXPECT_NEAR(sun.value - faded.value, lit, 5 * sun.error + 1e-4);
  // A lamp beside the way, its light lost on both ways: by small parts.
  room.light.sun.reset();
  Lamp lamp{.place = {0.5, 1, 0.2}, .color = {1, 1, 1}, .range = 10, .radius = 0.02};
  lamp.power = 30;
  room.light.lamps.push_back(lamp);
  const auto by_lamp = mean_radiance(path_frame(scene, camera, point_budget(60000, 1)));
  double sum = 0;
  constexpr int parts = 20000;
  for (int k = 0; k < parts; ++k) {
    const double t = 3 * (k + 0.5) / parts;
    const double square = (Vec3d(0, t, 0) - lamp.place).squaredNorm();
    sum += 3.0 / parts * extinction * std::exp(-extinction * (t + std::sqrt(square))) * 0.8 /
           (4 * pi) * 30 / (4 * pi * square);
  }
  EXPECT_NEAR(by_lamp.value - faded.value, sum, 5 * by_lamp.error + 0.01 * sum);
}

/// A room cut in two by a portal is the same as one.
TEST(Paths, TwoRoomsJoinedByAPortalAreLitAsOne) {
  const auto furnish = [](Scene& scene, std::size_t room, double shift) {
    const auto put = [&](const Field& part, int material) {
      scene.rooms[room].add(field::place({0, shift, 0}, part).made_of(material));
    };
    put(field::plane({0, 0, 1}, 0), 0);
    put(field::place({0.5, 3, 0.5}, field::sphere(0.5)), 1);
    put(field::place({-0.9, 1.2, 0.4}, field::box({0.5, 0.5, 0.8})), 1);
    // A wall with an opening, which the portal fills.
    put(field::carve({field::place({0, 2, 1.5}, field::box({8, 0.1, 3})),
                      field::place({0, 2, 1}, field::box({2, 1, 2}))}),
        0);
    scene.rooms[room].sky = Sky{.zenith = {0.3f, 0.3f, 0.3f}, .horizon = {0.3f, 0.3f, 0.3f}};
  };
  const auto with_materials = [] {
    Scene scene;
    scene.wall({.base = {0.6f, 0.6f, 0.6f}}, "stone");
    scene.wall({.base = {0.8f, 0.3f, 0.2f}, .roughness = 0.4, .specular = 0.05}, "clay");
    test::empty_air(scene.room());
    return scene;
  };
  const Lamp lamp{
      .place = {0.4, 3.2, 1.6}, .color = {1, 0.9f, 0.7f}, .range = 4, .radius = 0.15, .power = 30};
  Scene one = with_materials();
  furnish(one, 0, 0);
  one.room().light.lamps.push_back(lamp);
  Scene two = with_materials();
  furnish(two, 0, 0);
  two.add_room("behind");
  test::empty_air(two.rooms[1]);
  furnish(two, 1, 10);
  Lamp moved = lamp;
  moved.place.y() += 10;
  two.rooms[1].light.lamps.push_back(moved);
  two.room().name = "front";
  Portal portal;
  portal.name = "gate";
  portal.opening = {.shape = OpeningShape::rectangle, .width = 2, .height = 2};
  portal.stance = {.at = {0, 2, 1}, .heading = degrees(270)};
  portal.to = PortalTarget{.room = "behind", .stance = {.at = {0, 12, 1}, .heading = degrees(90)}};
  two.room().portals.push_back(portal);
  const Camera camera = Camera::look_at({0.3, -1.5, 1.4}, {0, 2, 0.7}, degrees(50));
  Budget budget = path_budget(48, 32, test::effort(64), 6);
  const Frame straight = path_frame(one, camera, budget);
  budget.frame.seed = 9;
  const Frame through = path_frame(two, camera, budget);
  // Both are noise about the same light: in the mean over all, and over what the wall hides.
  const auto a = mean_radiance(straight);
  const auto b = mean_radiance(through);
  double difference = 0;
  for (int y = 0; y < 32; ++y) {
    for (int x = 0; x < 48; ++x) {
      difference += static_cast<double>(straight.values(Layer::radiance, 1)(x, y) -
                                        through.values(Layer::radiance, 1)(x, y)) /
                    (48 * 32);
    }
  }
  EXPECT_NEAR(difference, 0, 0.02 * a.value) << a.value << " " << b.value;
}

TEST(Paths, CellsAndTheSameBoxesAsFieldsAreLitAlike) {
  Scene cells = test::drawn(".....\n.#.A.\n.....\n..#..\n.....");
  Scene fields;
  for (Scene* scene : {&cells, &fields}) {
    test::empty_air(scene->room());
    scene->room().sky = Sky{.zenith = {0.2f, 0.3f, 0.6f}, .horizon = {0.6f, 0.5f, 0.4f}};
    scene->room().light.sun = Sun{.heading = 2, .elevation = degrees(35), .color = {1, 1, 1}};
  }
  cells.room().has_ceiling = false;
  cells.room().floor = {.base = {0.5f, 0.5f, 0.5f}};
  cells.room().cell_map().wall_height = 1.2;
  fields.materials = cells.materials;
  fields.materials.push_back(cells.room().floor);
  const auto box = [&](int x, int y, int material) {
    fields.room().add(
        field::place({x + 0.5, y + 0.5, 0.6}, field::box({1, 1, 1.2})).made_of(material));
  };
  box(1, 3, 0);
  box(3, 3, 1);
  box(2, 1, 0);
  fields.room().add(field::plane({0, 0, 1}, 0).made_of(2));
  Camera camera;
  camera.eye = {2.5, 0.1, 0.9};
  camera.heading = degrees(90);
  camera.pitch = -0.1;
  Budget budget = path_budget(48, 32, test::effort(64), 4);
  const auto a = mean_radiance(path_frame(cells, camera, budget));
  budget.frame.seed = 4;
  const auto b = mean_radiance(path_frame(fields, camera, budget));
  EXPECT_NEAR(a.value, b.value, 0.01 * a.value);
}

TEST(Paths, RouletteDoesNotChangeTheMean) {
  Scene scene = test::drawn(test::square_room(4));
  test::empty_air(scene.room());
  scene.materials[0].base = {0.6f, 0.5f, 0.4f};
  scene.room().light.lamps.push_back(
      {.place = {3, 3, 2}, .color = {1, 1, 1}, .range = 4, .radius = 0.3, .power = 20});
  Camera camera;
  camera.eye = {1.5, 1.5, 1.5};
  camera.heading = 0.8;
  camera.pitch = -0.1;
  Budget budget = path_budget(32, 24, test::effort(64), 12);
  budget.bounces.roulette = 0;
  const auto plain = mean_radiance(path_frame(scene, camera, budget));
  for (const double roulette : {0.1, 0.5, 2.0}) {
    budget.bounces.roulette = roulette;
    budget.frame.seed += 1;
    const Frame frame = path_frame(scene, camera, budget, {Layer::radiance, Layer::bounces});
    const auto mean = mean_radiance(frame);
    EXPECT_NEAR(mean.value, plain.value, 0.015 * plain.value) << roulette;
  }
}

TEST(Paths, LightsThatAreNotSoughtBringTheSameWithMoreNoise) {
  Scene scene = test::drawn(test::square_room(3));
  test::empty_air(scene.room());
  scene.materials[0].base = {0.6f, 0.5f, 0.4f};
  scene.room().light.lamps.push_back(
      {.place = {2.5, 2.5, 2}, .color = {1, 1, 1}, .range = 4, .radius = 0.5, .power = 20});
  Camera camera;
  camera.eye = {1.4, 1.4, 1.2};
  camera.heading = 0.8;
  camera.pitch = -0.3;
  Budget budget = path_budget(32, 24, test::effort(256), 3);
  const auto sought = mean_radiance(path_frame(scene, camera, budget));
  budget.light.seek = false;
  const Frame by_chance = path_frame(scene, camera, budget);
  EXPECT_NEAR(mean_radiance(by_chance).value, sought.value, 0.03 * sought.value);
  ASSERT_TRUE(by_chance.path_report);
  budget.light.seek = true;
  EXPECT_GT(by_chance.path_report->rmse, 3 * path_frame(scene, camera, budget).path_report->rmse);
}

TEST(Paths, EmissionShowsWithoutPathsToo) {
  Scene scene = test::drawn(test::square_room(3));
  test::empty_air(scene.room());
  scene.materials[0] = {.base = {0.1f, 0.1f, 0.1f}, .emission = {0.25f, 0.5f, 3}};
  Camera camera;
  camera.eye = {2.5, 2.5, 1.5};
  Budget budget;
  budget.frame = {16, 8, 1};
  const Frame frame = render(compile(scene), camera, budget);
  EXPECT_NEAR(frame.values(Layer::color, 0)(8, 4), 0.25f, 0.01f);
  EXPECT_NEAR(frame.values(Layer::color, 1)(8, 4), 0.5f, 0.01f);
  EXPECT_EQ(frame.values(Layer::color, 2)(8, 4), 1);
}

}  // namespace
}  // namespace photonlane
