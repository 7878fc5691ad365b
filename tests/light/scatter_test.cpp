// How surfaces scatter light: no light is made or lost, the same both ways, and directions are
// found as often as their density says.

#include "photonlane/light/scatter.hpp"

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>
#include <string>
#include <vector>

#include "photonlane/base/random.hpp"
#include "photonlane/base/vector.hpp"
#include "photonlane/light/optics.hpp"
#include "support/effort.hpp"

namespace photonlane {
namespace {

struct Kind {
  std::string name;
  ScatterSurface surface;
};

/// White surfaces of every kind, which throw back or let through all that they get.
std::vector<Kind> white_kinds(float roughness) {
  const ScatterSurface plain{.base = {1, 1, 1}, .roughness = roughness};
  std::vector<Kind> kinds{{"diffuse", plain},   {"metal", plain},      {"glazed", plain},
                          {"wet", plain},       {"pane", plain},       {"glass pane", plain},
                          {"leaf", plain},      {"half metal", plain}, {"glass", plain},
                          {"from glass", plain}};
  kinds[1].surface.metal = 1;
  kinds[2].surface.specular = 0.04f;
  kinds[3].surface.specular = 0.02f;
  kinds[3].surface.film = 0.6f;
  kinds[4].surface.opacity = 0.3f;
  kinds[4].surface.specular = 0.2f;
  kinds[5].surface.opacity = 0.3f;
  kinds[5].surface.index = 1.5f;
  kinds[6].surface.leaf = true;
  kinds[7].surface.metal = 0.5f;
  kinds[7].surface.specular = 0.1f;
  kinds[8].surface.body = kinds[9].surface.body = true;
  kinds[8].surface.opacity = kinds[9].surface.opacity = 0;
  kinds[8].surface.index = 1.5f;
  kinds[9].surface.index = 1 / 1.5f;
  return kinds;
}

Way at_cosine(float cosine, float turn = 0.3f) {
  const float sine = std::sqrt(1 - cosine * cosine);
  return {sine * std::cos(turn), sine * std::sin(turn), cosine};
}

float drawn(std::uint32_t i, std::uint32_t dimension) {
  return random_uniform({.seed = 11, .pixel = 3, .sample = i, .bounce = 0}, dimension);
}

TEST(Scatter, WhiteSurfacesKeepAllLightAtEveryRoughnessAndAngle) {
  const auto samples = static_cast<std::uint32_t>(test::effort(20000));
  for (const float roughness : {0.0f, 0.1f, 0.25f, 0.4f, 0.6f, 0.8f, 1.0f}) {
    for (const Kind& kind : white_kinds(roughness)) {
      // What is half a metal takes what it does not reflect, half of it.
      if (kind.name == "half metal") continue;
      const Scattering scattering(kind.surface);
      for (const float cosine : {0.05f, 0.2f, 0.5f, 0.8f, 0.99f}) {
        double sum = 0;
        double squares = 0;
        for (std::uint32_t i = 0; i < samples; ++i) {
          const double weight = static_cast<double>(
              scattering.sample(at_cosine(cosine), drawn(i, 0), drawn(i, 1), drawn(i, 2))
                  .weight[1]);
          sum += weight;
          squares += weight * weight;
        }
        const double mean = sum / samples;
        const double error = std::sqrt(std::max(0.0, squares / samples - mean * mean) / samples);
        // One part in a hundred is what the tables of lost light are good for.
        EXPECT_NEAR(mean, 1, 0.012 + 4 * error)
            << kind.name << " roughness " << roughness << " cosine " << cosine;
      }
    }
  }
}

/// Directions all over the sphere, none of them special.
std::vector<Way> some_ways(std::uint32_t count, std::uint32_t salt) {
  std::vector<Way> ways;
  for (std::uint32_t i = 0; i < count; ++i) {
    const float z = 2 * drawn(i, salt) - 1;
    if (std::abs(z) < 0.02f) continue;
    ways.push_back(at_cosine(z, 6.2f * drawn(i, salt + 1)));
  }
  return ways;
}

TEST(Scatter, IsTheSameBothWays) {
  int compared = 0;
  for (const float roughness : {0.2f, 0.5f, 1.0f}) {
    for (const Kind& kind : white_kinds(roughness)) {
      ScatterSurface colored = kind.surface;
      colored.base = {0.8f, 0.5f, 0.2f};
      ScatterSurface back = colored;
      // Seen from the other side a body's index is turned around.
      back.index = colored.body ? 1 / colored.index : colored.index;
      const Scattering there(colored);
      const Scattering back_there(back);
      for (const Way& out : some_ways(60, 4)) {
        if (out.z <= 0) continue;
        for (const Way& in : some_ways(60, 8)) {
          const bool behind = in.z < 0;
          if (behind && !colored.body) continue;
          // Light behind is spread over directions by the square of the index.
          const float square = behind ? colored.index * colored.index : 1;
          const float one = there.value(out, in)[0] / (square * std::abs(in.z));
          const Way turned_out = behind ? Way{-in.x, -in.y, -in.z} : in;
          const Way turned_in = behind ? Way{-out.x, -out.y, -out.z} : out;
          const float two = (behind ? back_there : there).value(turned_out, turned_in)[0] / out.z;
          EXPECT_NEAR(one, two, 2e-3f * std::max(one, 1e-3f) + 1e-6f)
              << kind.name << " roughness " << roughness << " " << out.z << " " << in.z;
          ++compared;
        }
      }
    }
  }
  EXPECT_GT(compared, 10000);
}

/// Pearson's sum over cells of the sphere, whose share of samples is compared with the integral of
/// the density over them.
TEST(Scatter, FindsDirectionsAsOftenAsTheirDensitySays) {
  constexpr int rows = 12;
  constexpr int columns = 8;
  const auto samples = static_cast<std::uint32_t>(test::effort(80000));
  for (const float roughness : {0.35f, 0.7f, 1.0f}) {
    for (Kind kind : white_kinds(roughness)) {
      kind.surface.base = {0.7f, 0.7f, 0.7f};
      if (kind.name == "glass") kind.surface.opacity = 0.25f;
      const Scattering scattering(kind.surface);
      for (const float cosine : {0.3f, 0.9f}) {
        const Way out = at_cosine(cosine);
        std::vector<double> seen(rows * columns, 0);
        double nowhere = 0;
        for (std::uint32_t i = 0; i < samples; ++i) {
          const ScatterSample sample =
              scattering.sample(out, drawn(i, 20), drawn(i, 21), drawn(i, 22));
          if (sample.density == 0) {
            ++nowhere;
            continue;
          }
          const int row = std::clamp(static_cast<int>((sample.way.z + 1) / 2 * rows), 0, rows - 1);
          double turn = std::atan2(sample.way.y, sample.way.x) / (2 * pi);
          if (turn < 0) turn += 1;
          const int column = std::clamp(static_cast<int>(turn * columns), 0, columns - 1);
          ++seen[static_cast<std::size_t>(row * columns + column)];
        }
        double chi = 0;
        int cells = 0;
        double all = 0;
        for (int row = 0; row < rows; ++row) {
          for (int column = 0; column < columns; ++column) {
            constexpr int fine = 24;
            double expected = 0;
            for (int k = 0; k < fine * fine; ++k) {
              const double z = -1 + 2 * (row + (k % fine + 0.5) / fine) / rows;
              const double turn =
                  2 * pi * (column + (static_cast<double>(k / fine) + 0.5) / fine) / columns;
              const double across = std::sqrt(1 - z * z);
              const Way in{static_cast<float>(across * std::cos(turn)),
                           static_cast<float>(across * std::sin(turn)), static_cast<float>(z)};
              expected += static_cast<double>(scattering.density(out, in));
            }
            expected *= 4 * pi / (rows * columns) / (fine * fine) * samples;
            all += expected;
            if (expected < 12) continue;
            const double off = seen[static_cast<std::size_t>(row * columns + column)] - expected;
            chi += off * off / expected;
            ++cells;
          }
        }
        // Directions that lead nowhere, below the surface, have a density all the same.
        EXPECT_LE(all, samples * 1.02) << kind.name;
        EXPECT_GE(all + nowhere, samples * 0.98) << kind.name;
        // A mean of `cells` and a deviation of sqrt(2 cells); a little more for the integral.
        EXPECT_LT(chi, cells + 5 * std::sqrt(2.0 * cells) + 0.1 * cells)
            << kind.name << " roughness " << roughness << " cosine " << cosine;
      }
    }
  }
}

TEST(Scatter, WeightsAreValuesOverDensities) {
  for (const float roughness : {0.2f, 0.6f}) {
    for (const Kind& kind : white_kinds(roughness)) {
      const Scattering scattering(kind.surface);
      const Way out = at_cosine(0.6f);
      for (std::uint32_t i = 0; i < 500; ++i) {
        const ScatterSample sample =
            scattering.sample(out, drawn(i, 30), drawn(i, 31), drawn(i, 32));
        if (sample.sharp || !(sample.weight > 0).any()) continue;
        EXPECT_NEAR(sample.density, scattering.density(out, sample.way), 1e-4f * sample.density);
        const Color value = scattering.value(out, sample.way);
        EXPECT_NEAR(sample.weight[0] * sample.density, value[0], 1e-3f * value[0] + 1e-6f)
            << kind.name;
      }
    }
  }
}

TEST(Scatter, SmoothGlassFollowsFresnelAndSnell) {
  const Scattering glass(
      ScatterSurface{.base = {1, 1, 1}, .opacity = 0, .index = 1.5f, .body = true});
  for (const float cosine : {0.05f, 0.3f, 0.7f, 1.0f}) {
    const float thrown = reflectance(cosine, 1.5f);
    const Way out = at_cosine(cosine);
    const ScatterSample back = glass.sample(out, 0.99f * thrown, 0.5f, 0.5f);
    EXPECT_TRUE(back.sharp && !back.through);
    EXPECT_NEAR(back.way.z, cosine, 1e-6f);
    const ScatterSample through = glass.sample(out, thrown + 0.01f * (1 - thrown), 0.5f, 0.5f);
    ASSERT_TRUE(through.through);
    const float sine_out = std::hypot(out.x, out.y);
    const float sine_in = std::hypot(through.way.x, through.way.y);
    EXPECT_NEAR(sine_out, 1.5f * sine_in, 1e-5f);
  }
}

TEST(Scatter, WhatRoughFacetsLoseIsKnown) {
  // The roughest facets face all ways alike: straight on a direction z is seen by 2 z / (1 + z), a
  // quarter of whose mean over the sphere is 1 - ln 2.
  EXPECT_NEAR(single_reflection(1, 1), 1 - std::numbers::ln2, 2e-3);
  EXPECT_EQ(single_reflection(0.7f, 0), 1);
  float before = 1;
  for (const float roughness : {0.3f, 0.5f, 0.7f, 0.9f, 1.0f}) {
    const float now = single_reflection(0.9f, roughness);
    EXPECT_LT(now, before);
    before = now;
  }
}

}  // namespace
}  // namespace photonlane
