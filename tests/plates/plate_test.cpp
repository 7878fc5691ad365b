// Plates: what lanes meet in them against every pixel asked by itself, what depth means in every
// way to write it, and what is no plate.

#include "photonlane/plates/plate.hpp"

#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <Eigen/Geometry>
#include <array>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/lanes.hpp"
#include "support/plates.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

/// A landscape of steps and slopes, with places where nothing stands.
Pixels rugged(Size size, std::uint64_t seed) {
  Pixels pixels(size);
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      const RandomKey block{.seed = seed,
                            .pixel = static_cast<std::uint64_t>(x / 7 + 1000 * (y / 5))};
      const double step = 2 + 6 * random_uniform(block, 0);
      const double lean = 0.05 * (random_uniform(block, 1) - 0.5);
      const double z = step + lean * (x % 7) + 0.03 * (y % 5);
      const bool nothing = random_uniform(block, 2) < 0.1;
      pixels.depth[pixels.at(x, y)] =
          nothing ? std::numeric_limits<float>::infinity() : static_cast<float>(z);
    }
  }
  return pixels;
}

/// Where a lane is over a pixel: by the four planes through the eye and the pixel's edges.
struct Over {
  double from, to;
};
Over over_pixel(const Viewing& seen, const Vec3d& eye, int x, int y, const Vec3d& start,
                const Vec3d& way, double limit) {
  Over over{0, limit};
  const auto keep = [&](const Vec3d& normal) {  // where normal . (place - eye) >= 0
    const double one = normal.dot(start - eye);
    const double slope = normal.dot(way);
    if (slope == 0) {
      if (one < 0) over.to = -1;
    } else if (slope > 0) {
      over.from = std::max(over.from, -one / slope);
    } else {
      over.to = std::min(over.to, -one / slope);
    }
  };
  keep(seen.right - seen.u(x) * seen.forward);
  keep(seen.u(x + 1) * seen.forward - seen.right);
  keep(seen.v(y) * seen.forward - seen.up);
  keep(seen.up - seen.v(y + 1) * seen.forward);
  keep(seen.forward);
  return over;
}

TEST(Plates, AreMetAsEveryPixelByItselfSays) {
  for (std::uint64_t seed = 1; seed <= 6; ++seed) {
    const Size size{seed % 2 == 0 ? 33 : 64, seed % 3 == 0 ? 17 : 40};
    Pixels pixels = rugged(size, seed);
    const Camera camera{.eye = {1, -2, 1.5},
                        .heading = 0.4 * static_cast<double>(seed),
                        .pitch = -0.1,
                        .roll = 0.3};
    Plate plate = pixels.plate(camera);
    plate.thickness = seed % 2 == 0 ? 0.4 : 100;
    plate.tolerance = 0;
    const auto solid = plate.compile({.materials = 0, .plain = 0});
    const Viewing seen = viewing(camera, size);
    const auto inverse = [&](int x, int y) {
      if (x < 0 || y < 0 || x >= size.width || y >= size.height) return 0.0f;
      return static_cast<float>(1 / static_cast<double>(pixels.depth[pixels.at(x, y)]));
    };
    // Of neighbors that stand at w[0] to w[4].
    const auto slope = [&](const std::array<float, 5>& w) {
      const auto step = [&](std::size_t k) { return w[k + 1] - w[k]; };
      const auto both = [&](std::size_t k) { return k < 4 && w[k] > 0 && w[k + 1] > 0; };
      const auto alike = [&](std::size_t k, std::size_t other) {
        return both(other) && std::abs(step(k) - step(other)) <=
                                  0.25f * std::min(std::abs(step(k)), std::abs(step(other)));
      };
      const auto one = [&](std::size_t k) {
        return both(k) && (std::abs(step(k)) <= 0.05f * std::min(w[k], w[k + 1]) ||
                           alike(k, k - 1) || alike(k, k + 1));
      };
      if (one(1) && one(2)) {
        const float bend = 0.25f * std::abs(step(2) - step(1));
        const float left = one(0) ? std::abs(step(1) - step(0)) : 1e30f;
        const float right = one(3) ? std::abs(step(3) - step(2)) : 1e30f;
        if (left >= bend && right >= bend) return 0.5f * (step(1) + step(2));
        return left < right ? step(1) : step(2);
      }
      return one(1) ? step(1) : one(2) ? step(2) : 0.0f;
    };
    LaneBatch<double> lanes;
    lanes.size = lanes.capacity;
    lanes.far_limit = 50;
    const double far = 50;
    const auto random = [&](std::size_t lane, std::uint64_t n) {
      return 2 * random_uniform({.seed = seed + 100, .pixel = lane}, n) - 1;
    };
    for (int round = 0; round < effort(8); ++round) {
      for (std::size_t i = 0; i < lanes.size; ++i) {
        const std::size_t key = 1000 * static_cast<std::size_t>(round) + i;
        const double away = 1 + 5 * std::abs(random(key, 0));
        const Vec3d from = camera.eye + away * (seen.forward + random(key, 1) * seen.right +
                                                random(key, 2) * seen.up);
        const Vec3d way = Vec3d(random(key, 3), random(key, 4), random(key, 5)).normalized();
        aim(lanes, i, from, way);
      }
      const HitBatch<double> hits = solid->nearest_hit(lanes, {});
      for (std::size_t i = 0; i < lanes.size; ++i) {
        const Vec3d from = from_of(lanes, i);
        const Vec3d way = way_of(lanes, i);
        double best = far;
        std::uint32_t item = no_item;
        double margin = 1;  // how surely the nearest pixels are met or missed, as a share
        for (int y = 0; y < size.height; ++y) {
          for (int x = 0; x < size.width; ++x) {
            const float own = inverse(x, y);
            if (own == 0) continue;
            const Over over = over_pixel(seen, camera.eye, x, y, from, way, far);
            if (!(over.from < over.to) || over.from > best) continue;
            std::array<float, 5> row;
            std::array<float, 5> column;
            for (int k = 0; k < 5; ++k) {
              row[static_cast<std::size_t>(k)] = inverse(x + k - 2, y);
              column[static_cast<std::size_t>(k)] = inverse(x, y + k - 2);
            }
            const double dx = static_cast<double>(slope(row));
            const double dy = static_cast<double>(slope(column));
            // How far behind the facet, as a share of its distance.
            const auto behind = [&](double t) {
              const Vec3d off = from + t * way - camera.eye;
              const double z = off.dot(seen.forward);
              const double px = seen.center_x + seen.focal * off.dot(seen.right) / z;
              const double py = seen.center_y - seen.focal_y * off.dot(seen.up) / z;
              return z * (static_cast<double>(own) + dx * (px - x - 0.5) + dy * (py - y - 0.5)) - 1;
            };
            const auto meters = [&](double share, double t) {
              return (from + t * way - camera.eye).dot(seen.forward) * share / (1 + share);
            };
            const double first = behind(std::max(over.from, 1e-9));
            const double last = behind(over.to);
            const auto close_call = [&](double value) {
              margin = std::min(margin, std::abs(value));
            };
            double t = -1;
            close_call(first - plate.tolerance);
            close_call(last - plate.tolerance);
            if (first <= plate.tolerance) {
              if (last > plate.tolerance) {
                t = std::clamp(over.from - first * (over.to - over.from) / (last - first),
                               over.from, over.to);
              }
            } else {
              const double in = meters(first, over.from);
              const double out = meters(last, over.to);
              close_call(in - plate.thickness);
              close_call(out - plate.thickness);
              if (in <= plate.thickness) {
                t = over.from;
              } else if (out <= plate.thickness) {
                t = over.from + (in - plate.thickness) / (in - out) * (over.to - over.from);
              }
            }
            // Lanes that start within are let out.
            if (t <= 0 || t >= best) continue;
            best = t;
            item = static_cast<std::uint32_t>(pixels.at(x, y));
          }
        }
        const bool starts_within = [&] {
          const Vec3d off = from - camera.eye;
          const double z = off.dot(seen.forward);
          const int x =
              static_cast<int>(std::floor(seen.center_x + seen.focal * off.dot(seen.right) / z));
          const int y =
              static_cast<int>(std::floor(seen.center_y - seen.focal_y * off.dot(seen.up) / z));
          const float own = inverse(x, y);
          return own > 0 && z * static_cast<double>(own) > 0.9;
        }();
        if (starts_within || margin < 1e-7) continue;
        if (item == no_item) {
          EXPECT_EQ(hits.ending[i], Ending::escaped) << seed << " " << round << " " << i;
        } else {
          ASSERT_EQ(hits.ending[i], Ending::hit)
              << seed << " " << round << " " << i << " at " << best << " pixel " << item % 64 << ","
              << item / 64 << " from " << from.transpose() << " way " << way.transpose();
          EXPECT_EQ(hits.item[i], item) << seed << " " << round << " " << i;
          EXPECT_NEAR(hits.t[i], best, 1e-6 * best) << seed << " " << round << " " << i;
        }
      }
    }
  }
}

TEST(Plates, LanesFromTheEyeSeeEveryPixel) {
  const Size size{37, 23};
  const Pixels pixels = rugged(size, 3);
  const Camera camera{.eye = {100, 50, 2}, .heading = 2, .pitch = 0.2};
  const auto solid = pixels.plate(camera).compile({.materials = 0, .plain = 0});
  const Viewing seen = viewing(camera, size);
  LaneBatch<double> lanes;
  lanes.size = 1;
  lanes.far_limit = 1000;
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      aim(lanes, 0, camera.eye, seen.ray(seen.u(x + 0.5), seen.v(y + 0.5)));
      const HitBatch<double> hits = solid->nearest_hit(lanes, {});
      ASSERT_EQ(hits.ending[0], Ending::hit);
      EXPECT_EQ(hits.item[0], pixels.at(x, y));
      const double slant =
          (seen.forward + seen.u(x + 0.5) * seen.right + seen.v(y + 0.5) * seen.up).norm();
      const auto depth = static_cast<double>(pixels.depth[pixels.at(x, y)]);
      // What has no place is behind all else, and nothing for other lanes.
      EXPECT_NEAR(hits.t[0], std::isinf(depth) ? 1000 * (1 - 1e-6) : depth * slant,
                  1e-6 * hits.t[0]);
      // Behind the surface there is nothing to see.
      lanes.any_start = true;
      lanes.start[0] = hits.t[0] * 1.0001;
      EXPECT_EQ(solid->nearest_hit(lanes, {}).ending[0], Ending::escaped);
      lanes.any_start = false;
    }
  }
  aim(lanes, 0, camera.eye, -seen.forward);
  EXPECT_EQ(solid->nearest_hit(lanes, {}).ending[0], Ending::escaped);
}

TEST(Plates, DepthMeansTheSameInEveryWayToWriteIt) {
  for (const double distance : {0.2, 1.0, 7.5, 999.0}) {
    for (const double slant : {1.0, 1.3, 2.0}) {
      for (const DepthKind kind : {DepthKind::axis, DepthKind::ray, DepthKind::buffer}) {
        for (const BufferRange range :
             {BufferRange::zero_to_one, BufferRange::one_to_zero, BufferRange::minus_one_to_one}) {
          for (const double far : {0.0, 1000.0}) {
            for (const bool linear : {false, true}) {
              if (linear && far == 0) continue;
              const PlateDepth means{kind, 0.01, 0.1, far, range, linear};
              const double number = plate_number(means, distance, slant);
              EXPECT_NEAR(plate_distance(means, number, slant), distance, 1e-9 * distance);
            }
          }
        }
      }
    }
  }
  const PlateDepth buffer{.kind = DepthKind::buffer, .range = BufferRange::one_to_zero};
  EXPECT_DOUBLE_EQ(plate_distance(buffer, 1, 1), 0.1);
  EXPECT_DOUBLE_EQ(plate_distance(buffer, 0.1, 1), 1);
  EXPECT_TRUE(std::isinf(plate_distance(buffer, 0, 1)));
  EXPECT_TRUE(std::isnan(plate_distance(buffer, 1.1, 1)));
  EXPECT_TRUE(std::isnan(plate_distance({}, 0, 1)));
  EXPECT_TRUE(std::isnan(plate_distance({}, -1, 1)));
  EXPECT_TRUE(std::isnan(plate_distance({}, std::nan(""), 1)));
  EXPECT_TRUE(std::isinf(plate_distance({}, std::numeric_limits<double>::infinity(), 1)));
}

TEST(Plates, ColorsThatAreNoNumbersAreBlack) {
  const Camera camera{.eye = {0, 0, 1}};
  Pixels pixels({16, 12});
  for (std::size_t i = 0; i < pixels.depth.size(); ++i) {
    pixels.depth[i] = i % 16 < 8 ? 2.0f : 5.0f;
    const float odd[] = {std::nanf(""), std::numeric_limits<float>::infinity(), -3, 1e30f, 0.5f};
    pixels.red[i] = odd[i % 5];
    pixels.green[i] = odd[i % 3];
  }
  Scene scene;
  scene.room().add(pixels.plate(camera));
  const Frame frame =
      render(compile(scene), camera, {.frame = {16, 12, 1}}, {.layers = {Layer::color}});
  for (int y = 0; y < 12; ++y) {
    for (int x = 0; x < 16; ++x) {
      for (int c = 0; c < 3; ++c) {
        EXPECT_TRUE(std::isfinite(frame.values(Layer::color, c)(x, y))) << x << " " << y;
      }
      if (pixels.at(x, y) % 5 == 0) EXPECT_EQ(frame.values(Layer::color, 0)(x, y), 0);
    }
  }
}

TEST(Plates, RefuseWhatIsNone) {
  const Size size{8, 6};
  Pixels pixels(size);
  const Camera camera;
  const auto message = [](const Plate& plate) -> std::string {
    try {
      plate.compile({.materials = 1, .plain = 0});
    } catch (const Error& error) {
      return error.what();
    }
    return "nothing";
  };
  EXPECT_EQ(message(pixels.plate(camera)), "nothing");
  EXPECT_THAT(message(Plate{}), HasSubstr("without color or depth"));
  Plate other = pixels.plate(camera);
  other.green.size = {6, 8};
  EXPECT_THAT(message(other), HasSubstr("color of 6x8 pixels and depth of 8x6"));
  pixels.depth[pixels.at(3, 2)] = std::nanf("");
  EXPECT_THAT(message(pixels.plate(camera)), HasSubstr("pixel [3, 2]"));
  pixels.depth[pixels.at(3, 2)] = -1;
  EXPECT_THAT(message(pixels.plate(camera)), HasSubstr("no distance"));
  pixels.depth[pixels.at(3, 2)] = 1;
  Plate buffer = pixels.plate(camera);
  buffer.means = {.kind = DepthKind::buffer, .nearest = 2, .farthest = 1};
  EXPECT_THAT(message(buffer), HasSubstr("expected it behind"));
  buffer.means = {.kind = DepthKind::buffer, .linear = true};
  EXPECT_THAT(message(buffer), HasSubstr("without a far plane"));
  Plate round = pixels.plate(camera);
  round.camera.projection = Projection::cylindrical;
  EXPECT_THAT(message(round), HasSubstr("planar"));
  Plate stuff = pixels.plate(camera);
  stuff.material = 1;
  EXPECT_THAT(message(stuff), HasSubstr("material 1"));
  // One pixel, and one row.
  for (const Size tiny : {Size{1, 1}, Size{300, 1}, Size{1, 5}}) {
    const Pixels few(tiny);
    EXPECT_EQ(message(few.plate(camera)), "nothing");
  }
}

}  // namespace
}  // namespace photonlane
