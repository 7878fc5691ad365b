// Mirrors, bodies that bend light, highlights, soft shadows and patterns against closed forms.

#include <gtest/gtest.h>

#include <cmath>
#include <functional>

#include "photonlane/light/optics.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using namespace field;

TEST(Optics, BoundariesThrowBackWhatFresnelSays) {
  EXPECT_NEAR(reflectance(1, 1.5f), 0.04, 1e-6);
  EXPECT_NEAR(reflectance(1, 1 / 1.5f), 0.04, 1e-6);
  EXPECT_NEAR(reflectance(0, 1.5f), 1, 1e-6);
  // At Brewster's angle only what swings across is thrown back: ((n^2 - 1) / (n^2 + 1))^2.
  const double brewster = std::atan(1.5);
  EXPECT_NEAR(reflectance(static_cast<float>(std::cos(brewster)), 1.5f),
              0.5 * std::pow(1.25 / 3.25, 2), 1e-6);
  // The same from either side.
  for (const double angle : {0.1, 0.4, 0.9, 1.4}) {
    const double inner = std::asin(std::sin(angle) / 1.33);
    EXPECT_NEAR(reflectance(static_cast<float>(std::cos(angle)), 1.33f),
                reflectance(static_cast<float>(std::cos(inner)), 1 / 1.33f), 1e-5);
  }
  // Beyond the critical angle everything.
  EXPECT_EQ(reflectance(std::cos(0.80f), 1 / 1.5f), 1);
  EXPECT_LT(reflectance(std::cos(0.72f), 1 / 1.5f), 1);
  EXPECT_NEAR(mirror_reflectance(1, 0.3f), 0.3, 1e-6);
  EXPECT_NEAR(mirror_reflectance(0, 0.3f), 1, 1e-6);
}

TEST(Optics, DirectionsAreBentBySnellsLaw) {
  for (const double angle : {0.0, 0.3, 0.8, 1.3}) {
    for (const float index : {1.5f, 1 / 1.5f}) {
      const Bent bent = bend(static_cast<float>(std::sin(angle)), 0,
                             static_cast<float>(-std::cos(angle)), 0, 0, 1, index);
      const double sine = std::sin(angle) / index;
      ASSERT_EQ(bent.through, sine < 1);
      if (!bent.through) continue;
      EXPECT_NEAR(bent.x, sine, 1e-6);
      EXPECT_NEAR(bent.z, -std::sqrt(1 - sine * sine), 1e-6);
    }
  }
}

TEST(Optics, HighlightsThrowBackNoMoreThanArrives) {
  // A surface that throws back all, lit from everywhere: the sum over the half space above it.
  for (const float roughness : {0.3f, 0.5f, 0.7f, 1.0f}) {
    for (const double eye : {0.1, 0.6, 1.2}) {
      double sum = 0;
      constexpr int steps = test::effort(400);
      for (int i = 0; i < steps; ++i) {
        const double theta = (i + 0.5) / steps * pi / 2;
        for (int j = 0; j < steps; ++j) {
          const double phi = (j + 0.5) / steps * 2 * pi;
          const Vec3d light(std::sin(theta) * std::cos(phi), std::sin(theta) * std::sin(phi),
                            std::cos(theta));
          const Vec3d to_eye(std::sin(eye), 0, std::cos(eye));
          const Vec3d half = (light + to_eye).normalized();
          const Facets facets{static_cast<float>(light.z()), static_cast<float>(to_eye.z()),
                              static_cast<float>(half.z()), static_cast<float>(half.dot(light))};
          sum += static_cast<double>(highlight(facets, roughness)) / pi * light.z() *
                 std::sin(theta) * (pi / 2 / steps) * (2 * pi / steps);
        }
      }
      EXPECT_LT(sum, 1.01) << roughness << " " << eye;
      EXPECT_GT(sum, 1 - 0.75 * static_cast<double>(roughness * roughness))
          << roughness << " " << eye;
    }
  }
}

/// A room of fields in even light, under a sky of one color.
struct Stage {
  Scene scene;
  Camera camera = Camera::look_at({0, -6, 2}, {0, 0, 0.4}, degrees(45));
  Budget budget;

  Stage() {
    Room& room = scene.room();
    room.light.ambient = {0.5f, 0.5f, 0.5f};
    room.sky.emplace();
    room.sky->zenith = room.sky->horizon = {0.25f, 0.5f, 0.75f};
    room.fog.start = 5000;
    room.fog.end = 6000;
    budget.frame = {80, 60, 1};
    budget.light.corners = Corners::none;
    budget.far_limit = 1000;
  }
  int material(const Material& one) {
    scene.materials.push_back(one);
    return static_cast<int>(scene.materials.size()) - 1;
  }
  Frame frame() const {
    return render(compile(scene), camera, budget,
                  {.layers = LayerSet::measurable(), .progress = {}, .recycle = {}});
  }
};

Color color_at(const Frame& frame, int x, int y) {
  return {frame.values(Layer::color, 0)(x, y), frame.values(Layer::color, 1)(x, y),
          frame.values(Layer::color, 2)(x, y)};
}

/// Pixels in which two frames differ by more than a little.
int differing(const Frame& one, const Frame& two, float most = 0.01f) {
  int count = 0;
  for (int y = 0; y < one.size().height; ++y) {
    for (int x = 0; x < one.size().width; ++x) {
      count += (color_at(one, x, y) - color_at(two, x, y)).abs().maxCoeff() > most;
    }
  }
  return count;
}

TEST(Bounces, AMirrorShowsWhatWouldStandBehindIt) {
  Stage stage;
  const int red = stage.material({.base = {0.9f, 0.2f, 0.1f}});
  const int mirror = stage.material({.base = {1, 1, 1}, .metal = 1});
  const Field ball = place({0.3, 0, 1.1}, box({1, 1, 1.2}, 0.2), {0.4, 0.2, 0.3});
  Stage twice = stage;
  stage.scene.room().add(ball.made_of(red));
  stage.scene.room().add(plane({0, 0, 1}).made_of(mirror));
  // Mirrored in the floor: turned about x the other way round.
  twice.scene.room().add(ball.made_of(red));
  twice.scene.room().add(
      place({0.3, 0, -1.1}, box({1, 1, 1.2}, 0.2), {-0.4, -0.2, 0.3}).made_of(red));
  const Frame seen = stage.frame();
  EXPECT_GT(seen.tally.bounces, 1000u);
  EXPECT_EQ(seen.tally.cut_bounces, 0u);
  // But where an edge falls between two pixels.
  EXPECT_LT(differing(seen, twice.frame()), 80 * 60 / 100);
}

TEST(Bounces, StopAtTheirLimitAndAreCounted) {
  Stage stage;
  const int mirror = stage.material({.base = {1, 1, 1}, .metal = 1});
  stage.scene.room().add(plane({0, 1, 0}, -2).made_of(mirror));
  stage.camera = Camera::look_at({0, 0, 1}, {0.1, -2, 1}, degrees(45));
  stage.scene.room().add(invert(plane({0, 1, 0}, 2)).made_of(mirror));
  for (const int limit : {0, 1, 5}) {
    stage.budget.bounces.limit = limit;
    const Frame frame = stage.frame();
    EXPECT_EQ(frame.tally.bounces, 80u * 60u * static_cast<unsigned>(limit));
    EXPECT_EQ(frame.tally.cut_bounces, 80u * 60u);
    EXPECT_LT((color_at(frame, 40, 30) - Color(0.25f, 0.5f, 0.75f)).abs().maxCoeff(), 1e-4f);
  }
}

TEST(Bounces, ABodyOfTheAirsIndexIsNotSeen) {
  Stage stage;
  const int red = stage.material({.base = {0.9f, 0.2f, 0.1f}});
  stage.scene.room().add(place({0, 2, 0}, box({3, 1, 3})).made_of(red));
  Stage glassed = stage;
  const int glass = glassed.material({.opacity = 0, .index = 1.00001});
  glassed.scene.room().add(place({0, -1, 0.5}, sphere(1)).made_of(glass));
  EXPECT_LT(differing(stage.frame(), glassed.frame()), 12);
}

TEST(Bounces, APlateShiftsWhatIsBehindItAsSnellSays) {
  Stage stage;
  const int checks = stage.material({.base = {1, 1, 1},
                                     .pattern = SurfacePattern::checks,
                                     .pattern_size = 0.5,
                                     .second = {0, 0, 0}});
  const int glass = stage.material({.opacity = 0, .index = 1.6});
  stage.scene.room().add(plane({0, -1, 0}, -3).made_of(checks));  // from y = 3 on
  constexpr double thick = 0.8;
  stage.scene.room().add(place({0, -1, 0}, box({20, thick, 20})).made_of(glass));
  stage.camera = Camera::look_at({0, -4, 0}, {1.5, 0, 0.8}, degrees(50));
  const Frame frame = stage.frame();
  const Viewing view = viewing(stage.camera, {80, 60});
  int clear = 0;
  int right = 0;
  for (int y = 0; y < 60; ++y) {
    for (int x = 0; x < 80; ++x) {
      const Vec3d way = view.ray(view.u(x + 0.5), view.v(y + 0.5)).normalized();
      // Straight on but for the way within the plate.
      const double sine = std::sqrt(1 - way.y() * way.y());
      const double inner = sine / 1.6;
      const double across =
          (7 - thick) * sine / way.y() + thick * inner / std::sqrt(1 - inner * inner);
      const double wall_x = across * way.x() / sine;
      const double wall_z = across * way.z() / sine;
      const auto edge = [](double place) {
        return std::abs(place / 0.5 - std::round(place / 0.5));
      };
      if (std::min(edge(wall_x), edge(wall_z)) < 0.12) continue;
      ++clear;
      // The face at y = 3 is at the foot of a check.
      const int sum = static_cast<int>(std::floor(wall_x / 0.5) + std::floor(wall_z / 0.5)) + 6;
      const bool white = (sum % 2 + 2) % 2 == 0;
      const float seen = color_at(frame, x, y)[1];
      // Half of it comes from everywhere, less a reflection of the sky in front.
      right += white ? seen > 0.3f : seen < 0.3f;
    }
  }
  EXPECT_GT(clear, 1500);
  EXPECT_GE(right, clear * 98 / 100);
}

TEST(Bounces, APlateTakesWhatBeerAndFresnelSay) {
  Stage stage;
  stage.scene.room().sky->zenith = stage.scene.room().sky->horizon = {0, 0, 0};
  const int white = stage.material({.base = {1, 1, 1}, .glow = 1});
  const int glass = stage.material({.opacity = 0, .index = 1.5, .absorption = {0.4f, 1.1f, 2.5f}});
  stage.scene.room().add(plane({0, -1, 0}, -3).made_of(white));
  stage.scene.room().add(place({0, -1, 0}, box({20, 0.7, 20})).made_of(glass));
  stage.camera = Camera::look_at({0, -4, 0}, {0, 0, 0}, degrees(2));
  stage.budget.bounces.limit = 12;
  const Frame frame = stage.frame();
  const double thrown = 0.04;
  const double absorption[3] = {0.4, 1.1, 2.5};
  for (int channel = 0; channel < 3; ++channel) {
    const double left = std::exp(-absorption[channel] * 0.7);
    const double through = std::pow(1 - thrown, 2) * left / (1 - thrown * thrown * left * left);
    // What the wall throws back at the plate adds a little more.
    EXPECT_NEAR(color_at(frame, 40, 30)[channel], through, 0.006);
  }
}

TEST(Bounces, LanesThatLookThroughAPlateMeetBothItsSidesOnce) {
  Stage stage;
  const int white = stage.material({.base = {1, 1, 1}});
  const int pane = stage.material({.base = {0, 0, 0}, .opacity = 0.5});
  stage.scene.room().add(plane({0, -1, 0}, -3).made_of(white));
  stage.scene.room().add(place({0, -1, 0}, box({20, 0.02, 20})).made_of(pane));
  stage.camera = Camera::look_at({0, -4, 0}, {2, 0, 1}, degrees(50));
  for (const FieldMethod method : {FieldMethod::sphere, FieldMethod::relaxed, FieldMethod::fixed}) {
    stage.budget.field.method = method;
    stage.budget.field.increment = 0.01;
    const Frame frame = stage.frame();
    for (int x = 0; x < 80; x += 7) {
      EXPECT_NEAR(color_at(frame, x, 30)[1], 0.5 * 0.25, 1e-3) << name_of(method) << " " << x;
    }
    EXPECT_EQ(frame.tally.spent, 0u);
  }
}

TEST(Bounces, WhatStandsInABodyIsSeenInIt) {
  Stage stage;
  const int red = stage.material({.base = {0.9f, 0.1f, 0.1f}});
  const int water = stage.material({.opacity = 0, .index = 1.33});
  stage.scene.room().add(place({0, 0, -0.5}, sphere(0.4)).made_of(red));
  stage.scene.room().add(place({0, 0, -1}, box({8, 8, 2})).made_of(water));
  stage.camera = Camera::look_at({0, -3, 3}, {0, 0, -0.5}, degrees(40));
  const Frame frame = stage.frame();
  const Color seen = color_at(frame, 40, 30);
  EXPECT_GT(seen[0], 0.4f);
  EXPECT_LT(seen[2], 0.1f);
  // Nearer to the surface than it is: it is seen higher than without the water.
  int highest = 60;
  for (int y = 59; y >= 0; --y) {
    if (color_at(frame, 40, y)[2] < 0.12f) highest = y;
  }
  Stage dry = stage;
  dry.scene.room().fields.pop_back();
  const Frame without = dry.frame();
  int dry_highest = 60;
  for (int y = 59; y >= 0; --y) {
    if (color_at(without, 40, y)[2] < 0.12f) dry_highest = y;
  }
  EXPECT_LT(highest, dry_highest);
}

TEST(Lights, SoftShadowsLeaveTheShareOfTheSunThatIsSeen) {
  Stage stage;
  Room& room = stage.scene.room();
  room.light.ambient = {0, 0, 0};
  room.light.sun =
      Sun{.heading = 0, .elevation = degrees(90), .color = {1, 1, 1}, .size = degrees(24)};
  const int white = stage.material({.base = {1, 1, 1}});
  room.add(plane({0, 0, 1}).made_of(white));
  // A block over everything west of x = 0, its edge 1 m up.
  room.add(place({-10, 0, 2}, box({20, 40, 2})).made_of(white));
  stage.camera = Camera::look_at({0, -2, 0.6}, {0, 0, 0}, degrees(40));
  const Viewing view = viewing(stage.camera, {80, 60});
  const auto error = [&](Softness softness) {
    stage.budget.light.softness = softness;
    stage.budget.light.soft_samples = 128;
    const Frame frame = stage.frame();
    double most = 0;
    double hard = 0;
    for (int y = 35; y < 60; ++y) {
      for (int x = 0; x < 80; ++x) {
        const Vec3d at =
            stage.camera.eye + static_cast<double>(frame.values(Layer::ray_distance)(x, y)) *
                                   view.ray(view.u(x + 0.5), view.v(y + 0.5)).normalized();
        // Rays to the east pass by its upper edge, those to the west its lower one.
        const double edge = at.x() > 0 ? 3 : 1;
        const double u = std::clamp(at.x() / edge / std::tan(degrees(12)), -1.0, 1.0);
        const double free = 1 - (std::acos(u) - u * std::sqrt(1 - u * u)) / pi;
        most = std::max(most, std::abs(color_at(frame, x, y)[1] - free));
        hard = std::max(hard, std::abs((at.x() > 0 ? 1.0 : 0.0) - free));
      }
    }
    EXPECT_GT(hard, 0.4);  // the soft edge is in the picture
    return most;
  };
  EXPECT_GT(error(Softness::hard), 0.4);
  EXPECT_LT(error(Softness::sampled), 0.06);
  EXPECT_LT(error(Softness::quick), 0.1);
}

TEST(Lights, SpotsShineWhereTheyAim) {
  Stage stage;
  Room& room = stage.scene.room();
  room.light.ambient = {0, 0, 0};
  room.light.lamps.push_back(Lamp{.place = {0, 0, 2},
                                  .color = {1, 1, 1},
                                  .range = 10,
                                  .radius = 0,
                                  .aim = {0, 0, 0},
                                  .cone = degrees(60)});
  room.add(plane({0, 0, 1}).made_of(stage.material({.base = {1, 1, 1}})));
  const Frame frame = stage.frame();
  const Viewing view = viewing(stage.camera, {80, 60});
  for (int y = 20; y < 60; ++y) {
    for (int x = 0; x < 80; ++x) {
      const Vec3d at =
          stage.camera.eye + static_cast<double>(frame.values(Layer::ray_distance)(x, y)) *
                                 view.ray(view.u(x + 0.5), view.v(y + 0.5)).normalized();
      const double off = std::atan(std::hypot(at.x(), at.y()) / 2);
      const double far = std::hypot(at.x(), at.y(), 2.0) / 10;
      const double full = std::pow(1 - far * far, 2) * std::cos(off);
      const float seen = color_at(frame, x, y)[1];
      if (off > degrees(30.2)) {
        EXPECT_EQ(seen, 0) << x << " " << y;
      } else if (off < degrees(23.8)) {
        EXPECT_NEAR(seen, full, 1e-3) << x << " " << y;
      }
    }
  }
  room.light.lamps[0].aim = room.light.lamps[0].place;
  EXPECT_THROW(stage.frame(), Error);
}

TEST(Lights, SampledFogIsDarkWhereTheSunDoesNotReach) {
  Stage stage;
  Room& room = stage.scene.room();
  room.fog = Fog{.color = {0.8f, 0.6f, 0.4f}, .start = 0, .end = 20, .sunlit = 0.7};
  room.light.sun = Sun{.heading = 0, .elevation = degrees(90), .color = {0, 0, 0}};
  const int black = stage.material({.base = {0, 0, 0}});
  room.add(plane({0, -1, 0}, -12).made_of(black));  // a wall at y = 12
  // A roof over all that is north of y = 4.
  room.add(place({0, 54, 6}, box({200, 100, 0.2})).made_of(black));
  stage.camera = Camera::look_at({0, 0, 1}, {0, 5, 1}, degrees(40));
  const Frame quick = stage.frame();
  stage.budget.light.fog = FogLight::sampled;
  stage.budget.light.fog_samples = 64;
  const Frame sampled = stage.frame();
  EXPECT_GT(sampled.tally.shadow_lanes, quick.tally.shadow_lanes + 80u * 60u * 60u);
  const Viewing view = viewing(stage.camera, {80, 60});
  int looked_at = 0;
  for (int y = 10; y < 50; ++y) {
    for (int x = 0; x < 80; ++x) {
      const float distance = sampled.values(Layer::ray_distance)(x, y);
      const Vec3d way = view.ray(view.u(x + 0.5), view.v(y + 0.5)).normalized();
      const double fogged = fog_share(room.fog, distance);
      EXPECT_NEAR(color_at(quick, x, y)[0], 0.8 * fogged, 2e-3);
      const double lit = fog_share(room.fog, 4 / way.y());
      if (std::abs(distance * way.y() - 12) > 0.01) continue;
      ++looked_at;
      EXPECT_NEAR(color_at(sampled, x, y)[0], 0.8 * (lit + 0.3 * (fogged - lit)), 0.02)
          << x << " " << y;
    }
  }
  EXPECT_GT(looked_at, 1000);
}

TEST(Patterns, LieWhereTheirPlaceIsAndEvenOutFarAway) {
  Stage stage;
  const Color first(0.8f, 0.4f, 0.2f);
  const Color second(0.1f, 0.2f, 0.6f);
  stage.scene.materials = {Material{.base = first,
                                    .pattern = SurfacePattern::stripes,
                                    .pattern_size = 0.4,
                                    .pattern_axis = PatternAxis::x,
                                    .second = second}};
  stage.scene.room().add(plane({0, 0, 1}).made_of(0));
  const Frame frame = stage.frame();
  const Viewing view = viewing(stage.camera, {80, 60});
  for (int y = 34; y < 60; ++y) {
    for (int x = 0; x < 80; ++x) {
      const Vec3d at =
          stage.camera.eye + static_cast<double>(frame.values(Layer::ray_distance)(x, y)) *
                                 view.ray(view.u(x + 0.5), view.v(y + 0.5)).normalized();
      const double stripe = at.x() / 0.4;
      if (std::abs(stripe - std::round(stripe)) < 0.32) continue;
      const bool odd = static_cast<std::int64_t>(std::floor(stripe)) % 2 != 0;
      const Color expected = 0.5f * (odd ? second : first);
      EXPECT_LT((color_at(frame, x, y) - expected).abs().maxCoeff(), 0.01f) << x << " " << y;
    }
  }
  // From 400 m up a pixel sees some stripes together, and shows their middle.
  stage.camera = Camera::look_at({0, 1, 400}, {0, 0, 0}, degrees(45));
  const Color even = 0.25f * (first + second);
  EXPECT_LT((color_at(stage.frame(), 41, 33) - even).abs().maxCoeff(), 0.03f);
}

TEST(Patterns, TexturesAreWrappedFromAllSides) {
  Stage stage;
  Texture texture{2, 2, std::vector<std::uint32_t>(4, pack_texel({0.5f, 0.25f, 0.125f}))};
  stage.scene.textures.push_back(texture);
  stage.scene.materials = {Material{.base = {1, 0.5f, 1}, .texture = 0, .tile = 0.3}};
  stage.scene.room().add(place({0, 0, 1}, sphere(1)).made_of(0));
  const Frame frame = stage.frame();
  int hits = 0;
  for (int y = 0; y < 60; ++y) {
    for (int x = 0; x < 80; ++x) {
      if (!std::isfinite(frame.values(Layer::depth)(x, y))) continue;
      ++hits;
      EXPECT_LT((color_at(frame, x, y) - 0.5f * Color(0.5f, 0.125f, 0.125f)).abs().maxCoeff(),
                0.01f);
    }
  }
  EXPECT_GT(hits, 300);
}

TEST(Gloss, TheSameBytesForEveryVectorWidthAndThreadCount) {
  Stage stage;
  Room& room = stage.scene.room();
  room.light.sun = Sun{};
  const int stone = stage.material({.base = {0.7f, 0.6f, 0.5f}, .pattern = SurfacePattern::noise});
  const int metal = stage.material({.base = {0.9f, 0.7f, 0.4f}, .roughness = 0.3, .metal = 0.8});
  const int glass = stage.material({.opacity = 0.1, .specular = 0.04, .index = 1.5});
  room.add(plane({0, 0, 1}).made_of(stone));
  room.add(place({-1, 0, 0.8}, sphere(0.8)).made_of(metal));
  room.add(place({1, -0.5, 0.7}, join(0.2, {sphere(0.5), box({0.6, 0.6, 1})})).made_of(glass));
  stage.budget.light.softness = Softness::sampled;
  stage.budget.light.soft_samples = 3;
  std::optional<std::uint64_t> expected;
  const World world = compile(stage.scene);
  test::for_each_target([&](const char* target) {
    for (const int threads : {1, 2}) {
      const Frame frame = render(
          world, stage.camera, stage.budget,
          {.layers = LayerSet::measurable(), .threads = threads, .progress = {}, .recycle = {}});
      const std::uint64_t hash = test::hash_of(frame, Layer::color);
      if (!expected) expected = hash;
      EXPECT_EQ(hash, *expected) << target << " " << threads;
    }
  });
}

}  // namespace
}  // namespace photonlane
