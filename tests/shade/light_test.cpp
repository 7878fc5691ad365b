#include <gmock/gmock.h>

#include <cmath>
#include <tuple>

#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using test::with_layers;

constexpr Size size{160, 120};

/// A field of 30 by 30 meters with a wall 2 cells wide and 1 meter deep in it, open to the sky;
/// colors as they are but for the light.
Scene lit_field() {
  std::string drawing;
  for (int row = 0; row < 30; ++row) {
    drawing +=
        row == 15 ? std::string(14, '.') + "##" + std::string(14, '.') : std::string(30, '.');
    drawing += '\n';
  }
  Scene scene = test::drawn(drawing);
  Room& room = scene.room();
  room.cell_map().face_shade = 1;
  room.cell_map().wall_height = 4;
  room.fog = {.start = 5000, .end = 6000};
  room.has_ceiling = false;
  room.floor.base = {1, 1, 1};
  room.light.ambient = {0.2f, 0.2f, 0.2f};
  return scene;
}

Budget plain_light(Rays rays = Rays::pixels) {
  Budget budget;
  budget.frame = {size.width, size.height, 1};
  budget.rays = rays;
  budget.light.corners = Corners::none;
  budget.light.wet_floor = WetFloor::none;
  return budget;
}

/// Calls look(place on the floor, x, y) for every pixel that shows the floor.
template <class Look>
void each_floor_pixel(const Frame& frame, const Camera& camera, const Look& look) {
  const Viewing view = viewing(camera, frame.size());
  for (int y = 0; y < frame.size().height; ++y) {
    for (int x = 0; x < frame.size().width; ++x) {
      if (frame.codes(Layer::face)(x, y) != static_cast<std::uint32_t>(Face::floor)) continue;
      const Vec3d ray = view.ray(view.u(x + 0.5), view.v(y + 0.5));
      look(Vec3d(camera.eye - ray * (camera.eye.z() / ray.z())), x, y);
    }
  }
}

TEST(SunShadows, FallAsFarAsTheWallIsHighOverTheTangent) {
  Scene scene = lit_field();
  // From the south, so that the shadow of the wall (y from 14 to 15) runs north.
  scene.room().light.sun =
      Sun{.heading = degrees(270), .elevation = degrees(45), .color = {1, 1, 1}};
  const World world = compile(scene);
  const double shadow = 4 / std::tan(degrees(45));
  const Camera camera = Camera::look_at({15, 27, 3.8}, {15, 16, 0}, degrees(70));
  Camera level = camera;
  level.pitch = 0;
  for (const Rays rays : {Rays::pixels, Rays::columns}) {
    const Camera& from = rays == Rays::columns ? level : camera;
    const Frame frame = render(world, from, plain_light(rays), with_layers(test::everything));
    int dark = 0;
    int wrong = 0;
    each_floor_pixel(frame, from, [&](const Vec3d& at, int x, int y) {
      const bool within = at.x() > 14 && at.x() < 16 && at.y() > 15 && at.y() < 15 + shadow;
      const double margin = std::min({std::abs(at.x() - 14), std::abs(at.x() - 16),
                                      std::abs(at.y() - 15 - shadow), std::abs(at.y() - 15)});
      if (margin < 0.03) return;
      const float light = frame.values(Layer::color, 0)(x, y);
      // Ambient alone, or 1 - (1 - ambient)(1 - the sun's cosine).
      const double bright = 1 - 0.8 * (1 - std::sin(degrees(45)));
      wrong += std::abs(light - (within ? 0.2 : bright)) > 2e-3;
      dark += within;
    });
    EXPECT_EQ(wrong, 0);
    EXPECT_GT(dark, 100);
  }
}

TEST(SunShadows, TheProbeKnowsOnlyOneDistance) {
  Scene scene = lit_field();
  scene.room().light.sun =
      Sun{.heading = degrees(270), .elevation = degrees(45), .color = {1, 1, 1}};
  const World world = compile(scene);
  const Camera camera = Camera::look_at({15, 27, 3.8}, {15, 16, 0}, degrees(70));
  Budget budget = plain_light();
  budget.light.sun_shadows = SunShadows::probe;
  budget.light.probe = 0.7;
  const Frame probe = render(world, camera, budget, with_layers(test::everything));
  each_floor_pixel(probe, camera, [&](const Vec3d& at, int x, int y) {
    // Where the wall stands 0.7 m to the south.
    const bool within = at.x() > 14 && at.x() < 16 && at.y() - 0.7 > 14 && at.y() - 0.7 < 15;
    const double margin = std::min({std::abs(at.x() - 14), std::abs(at.x() - 16),
                                    std::abs(at.y() - 14.7), std::abs(at.y() - 15.7)});
    EXPECT_TRUE(margin < 0.03 || (probe.values(Layer::color, 0)(x, y) < 0.3f) == within);
  });
  budget.light.sun_shadows = SunShadows::none;
  const Frame none = render(world, camera, budget, with_layers(test::everything));
  each_floor_pixel(none, camera, [&](const Vec3d&, int x, int y) {
    EXPECT_GT(none.values(Layer::color, 0)(x, y), 0.3f);
  });
  // The trick is nearer to the truth than nothing.
  const Frame truth = render(world, camera, plain_light());
  EXPECT_LT(compare(probe, truth).rmse, compare(none, truth).rmse);
}

TEST(SunShadows, PanesLetThroughWhatTheyDoNotHide) {
  Scene scene = lit_field();
  scene.materials[0] = {.base = {0, 0, 0}, .opacity = 0.4, .tint = {1, 0.5f, 0.25f}};
  scene.room().light.ambient = {0, 0, 0};
  scene.room().light.sun =
      Sun{.heading = degrees(270), .elevation = degrees(45), .color = {1, 1, 1}};
  const Camera camera = Camera::look_at({15, 27, 3.8}, {15, 16, 0}, degrees(70));
  const Frame frame = render(compile(scene), camera, plain_light(), with_layers(test::everything));
  int looked_at = 0;
  each_floor_pixel(frame, camera, [&](const Vec3d& at, int x, int y) {
    if (!(at.x() > 14.1 && at.x() < 15.9 && at.y() > 15.1 && at.y() < 17.9)) return;
    ++looked_at;
    for (int channel = 0; channel < 3; ++channel) {
      const double through = 0.6 * std::array{1.0, 0.5, 0.25}[channel];
      EXPECT_NEAR(frame.values(Layer::color, channel)(x, y), through * std::sin(degrees(45)), 2e-3);
    }
  });
  EXPECT_GT(looked_at, 30);
}

TEST(Lamps, FadeWithTheirRangeAndAreHiddenByWalls) {
  Scene scene = lit_field();
  scene.room().light.ambient = {0, 0, 0};
  const Lamp lamp{.place = {15, 18, 2}, .color = {1, 0.5f, 0.25f}, .range = 8};
  scene.room().light.lamps.push_back(lamp);
  const World world = compile(scene);
  for (const auto& [eye, target] : {std::pair{Vec3d(15, 27, 3.8), Vec3d(15, 18, 0)},
                                    std::pair{Vec3d(15, 4, 3.8), Vec3d(15, 13, 0)}}) {
    const Camera camera = Camera::look_at(eye, target, degrees(70));
    const Frame frame = render(world, camera, plain_light(), with_layers(test::everything));
    int lit = 0;
    int shaded = 0;
    each_floor_pixel(frame, camera, [&](const Vec3d& at, int x, int y) {
      const Vec3d way = lamp.place - at;
      const double distance = way.norm();
      // The wall stands from x = 14 to 16, y = 14 to 15.
      const auto crosses = [&](double margin) {
        double enter = 0;
        double leave = 1;
        for (const auto& [axis, low, high] :
             {std::tuple{0, 14.0, 16.0}, std::tuple{1, 14.0, 15.0}}) {
          const double first = (low - margin - at[axis]) / way[axis];
          const double second = (high + margin - at[axis]) / way[axis];
          enter = std::max(enter, std::min(first, second));
          leave = std::min(leave, std::max(first, second));
        }
        return enter < leave;
      };
      if (crosses(0.05) != crosses(-0.05)) return;
      const double fade = std::max(0.0, 1 - distance * distance / 64);
      const double expected = crosses(0) ? 0 : fade * fade * way.z() / distance;
      for (int channel = 0; channel < 3; ++channel) {
        EXPECT_NEAR(frame.values(Layer::color, channel)(x, y), expected * lamp.color[channel],
                    2e-3);
      }
      lit += expected > 0.01;
      shaded += crosses(0) && fade > 0;
    });
    EXPECT_GT(lit, 100);
    EXPECT_EQ(shaded > 50, eye.y() < 10);
  }
}

TEST(Corners, HalfOfTheLightIsLeftAtTheFootOfAWall) {
  Scene scene = lit_field();
  scene.room().light.ambient = {0.5f, 0.5f, 0.5f};
  scene.room().light.corner_reach = 1;
  const World world = compile(scene);
  const Camera camera = Camera::look_at({15, 18, 3}, {15, 15.3, 0}, degrees(50));
  Budget budget = plain_light();
  budget.light.corners = Corners::sampled;
  budget.light.corner_samples = 1024;
  const Frame sampled = render(world, camera, budget, with_layers(test::everything));
  budget.light.corners = Corners::neighbors;
  const Frame guessed = render(world, camera, budget, with_layers(test::everything));
  budget.light.corners = Corners::none;
  const Frame none = render(world, camera, budget, with_layers(test::everything));
  int near = 0;
  each_floor_pixel(sampled, camera, [&](const Vec3d& at, int x, int y) {
    if (std::abs(at.x() - 15) > 0.3) return;
    const double distance = at.y() - 15;
    const float seen = sampled.values(Layer::color, 0)(x, y);
    // A wall without end at a distance d hides, of directions weighed by their cosine, those below
    // the sphere of the reach: by (acos(d) - d sqrt(1 - d^2)) / pi.
    const double d = std::min(distance, 1.0);
    const double hidden = (std::acos(d) - d * std::sqrt(1 - d * d)) / pi;
    EXPECT_NEAR(seen, 0.5 * (1 - hidden), 0.01) << distance;
    EXPECT_NEAR(guessed.values(Layer::color, 0)(x, y), seen, 0.06) << distance;
    EXPECT_EQ(none.values(Layer::color, 0)(x, y), 0.5f);
    near += distance < 0.3;
  });
  EXPECT_GT(near, 20);
}

/// A corridor with a red wall at its end; the floor is black and as wet as can be.
Scene wet_corridor() {
  Scene scene = test::drawn(
      "###########\n"
      "#.........A\n"
      "#.........A\n"
      "#.........A\n"
      "###########");
  scene.materials[0].base = {0, 0, 0.4f};
  scene.materials[1].base = {0.8f, 0, 0};
  Room& room = scene.room();
  room.fog = {.start = 5000, .end = 6000};
  room.cell_map().face_shade = 1;
  room.ceiling.base = {0, 0.5f, 0};
  room.floor = {.base = {0, 0, 0}, .wetness = 1};
  return scene;
}

TEST(WetFloors, ShowWhatLiesAboveAsMuchAsWaterThrowsBack) {
  const Scene scene = wet_corridor();
  const World world = compile(scene);
  const Camera camera{.eye = {1.5, 2.5, 1.6}, .field_of_view = degrees(60)};
  const Viewing view = viewing(camera, size);
  for (const Rays rays : {Rays::pixels, Rays::columns}) {
    for (const WetFloor how : {WetFloor::traced, WetFloor::mirrored}) {
      Budget budget = plain_light(rays);
      budget.light.wet_floor = how;
      const Frame frame = render(world, camera, budget, with_layers(test::everything));
      int red = 0;
      each_floor_pixel(frame, camera, [&](const Vec3d& at, int x, int y) {
        const Vec3d ray = view.ray(view.u(x + 0.5), view.v(y + 0.5));
        // On from the floor with the height turned round: the end wall, a side wall or the ceiling.
        const double to_end = (10 - at.x()) / ray.x();
        const double to_side = ray.y() == 0 ? 1e9 : ((ray.y() > 0 ? 4 : 1) - at.y()) / ray.y();
        const double to_ceiling = 3 / -ray.z();
        const double nearest = std::min({to_end, to_side, to_ceiling});
        double second = 1e9;
        for (const double t : {to_end, to_side, to_ceiling}) {
          if (t != nearest) second = std::min(second, t);
        }
        if (second - nearest < 0.02) return;
        const Color color = nearest == to_end    ? Color(0.8f, 0, 0)
                            : nearest == to_side ? Color(0, 0, 0.4f)
                                                 : Color(0, 0.5f, 0);
        const float share = water_reflectance(static_cast<float>(-ray.z()));
        for (int channel = 0; channel < 3; ++channel) {
          EXPECT_NEAR(frame.values(Layer::color, channel)(x, y), share * color[channel], 2e-3)
              << x << " " << y;
        }
        red += nearest == to_end;
      });
      EXPECT_GT(red, 50);
    }
  }
}

TEST(WetFloors, ShowSprites) {
  Scene scene = wet_corridor();
  scene.wall({.base = {1, 1, 1}});
  scene.room().sprites = {{.foot = {9, 2.5, 0.5}, .width = 1, .height = 1, .material = 2}};
  const Camera camera{.eye = {1.5, 2.5, 1.6}, .field_of_view = degrees(60)};
  const Viewing view = viewing(camera, size);
  // The sprite's middle, 1 m up, is mirrored 1 m down, 7.5 m ahead.
  const int y = static_cast<int>(size.height / 2 + view.focal * (1.6 + 1.0) / 7.5);
  for (const WetFloor how : {WetFloor::traced, WetFloor::mirrored}) {
    Budget budget = plain_light();
    budget.light.wet_floor = how;
    const Frame frame = render(compile(scene), camera, budget);
    const bool white = frame.values(Layer::color, 1)(80, y) > 0.001f &&
                       frame.values(Layer::color, 0)(80, y) > 0.001f;
    EXPECT_TRUE(white) << name_of(how);
  }
}

TEST(WetFloors, RoughOnesBlurWithoutGettingBrighter) {
  Scene scene = wet_corridor();
  const Camera camera{.eye = {1.5, 2.5, 1.6}, .field_of_view = degrees(60)};
  Budget budget = plain_light();
  budget.light.wet_floor = WetFloor::traced;
  budget.frame.samples = 16;
  const Frame smooth = render(compile(scene), camera, budget);
  scene.room().floor.roughness = 1;
  const Frame rough = render(compile(scene), camera, budget);
  double smooth_sum = 0;
  double rough_sum = 0;
  for (int y = 70; y < 120; ++y) {
    for (int x = 0; x < 160; ++x) {
      for (int channel = 0; channel < 3; ++channel) {
        smooth_sum += smooth.values(Layer::color, channel)(x, y);
        rough_sum += rough.values(Layer::color, channel)(x, y);
      }
    }
  }
  EXPECT_NEAR(rough_sum / smooth_sum, 1, 0.35);
  EXPECT_GT(compare(rough, smooth).rmse, 0.004);
}

TEST(FogEnds, RiseAndEndWithoutALine) {
  const Fog fog{.start = 5, .end = 25};
  const double step = 0.01;
  double before = fog_share(fog, 4.98) - fog_share(fog, 4.97);
  for (double distance = 4.98; distance < 25.1; distance += step) {
    const double slope = fog_share(fog, distance + step) - fog_share(fog, distance);
    EXPECT_LT(std::abs(slope - before), 3e-6) << "the slope itself has no jump at " << distance;
    before = slope;
  }
  EXPECT_EQ(fog_share(fog, 5), 0);
  EXPECT_EQ(fog_share(fog, 25), 1);
}

TEST(Lights, ThoseThatCannotBeAreRefused) {
  const auto refused = [](const Lighting& light) {
    Scene scene = test::drawn("###\n#.#\n###");
    scene.room().light = light;
    EXPECT_THROW(compile(scene), Error);
  };
  refused({.ambient = {2, 0, 0}});
  refused({.corner_reach = 0});
  refused({.sun = Sun{.elevation = -0.2}});
  refused({.lamps = {Lamp{.range = 0}}});
  refused({.lamps = {Lamp{.color = {0, 0, -1}}}});
}

}  // namespace
}  // namespace photonlane
