// Plates: what lanes meet in them against every pixel asked by itself, a scene of which a part is a
// plate against the whole scene, shadows against closed forms, and wrong conventions against what
// check finds.

#include "photonlane/plates/plate.hpp"

#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <Eigen/Geometry>
#include <array>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/lanes.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

/// Pixels that a plate points into.
struct Pixels {
  Size size;
  std::vector<float> depth, red, green, blue, alpha;

  explicit Pixels(Size its_size) : size(its_size) {
    const auto count = static_cast<std::size_t>(size.width) * static_cast<std::size_t>(size.height);
    for (auto* plane : {&depth, &red, &green, &blue}) plane->assign(count, 0.5f);
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
        EXPECT_GE(hits.steps[i], 0u);
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

/// A yard with a floor, walls and, with `guest`, a ball that a plate of the yard does not have.
Scene yard(bool guest) {
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

const Camera yard_camera{.eye = {0.3, -4, 1.7}, .heading = degrees(92), .pitch = degrees(-8)};

Budget yard_budget() {
  Budget budget{.frame = {160, 100, 1}};
  budget.light.corners = Corners::none;
  return budget;
}

/// The yard without its guest as a picture, and with the guest beside that picture.
struct PlateYard {
  Frame made;
  Pixels pixels{{160, 100}};

  PlateYard() {
    made = render(compile(yard(false)), yard_camera, yard_budget(),
                  {.layers = {Layer::color, Layer::depth, Layer::ending}});
    for (int y = 0; y < 100; ++y) {
      for (int x = 0; x < 160; ++x) {
        const std::size_t i = pixels.at(x, y);
        pixels.red[i] = made.values(Layer::color, 0)(x, y);
        pixels.green[i] = made.values(Layer::color, 1)(x, y);
        pixels.blue[i] = made.values(Layer::color, 2)(x, y);
        const bool met = made.codes(Layer::ending)(x, y) == static_cast<std::uint32_t>(Ending::hit);
        pixels.depth[i] =
            met ? made.values(Layer::depth)(x, y) : std::numeric_limits<float>::infinity();
      }
    }
  }

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

TEST(Plates, AreTheWholeSceneWithWhatIsSetInThem) {
  const PlateYard plate;
  const LayerSet layers{Layer::color, Layer::depth, Layer::normal};
  const Frame whole = render(compile(yard(true)), yard_camera, yard_budget(), {.layers = layers});
  const Frame parts =
      render(compile(plate.scene()), yard_camera, yard_budget(), {.layers = layers});
  int shadowed = 0;
  int off = 0;
  double sum = 0;
  for (int y = 0; y < 100; ++y) {
    for (int x = 0; x < 160; ++x) {
      const float depth = whole.values(Layer::depth)(x, y);
      const float found = parts.values(Layer::depth)(x, y);
      if (depth < 100) EXPECT_NEAR(found, depth, 5e-3f * depth) << x << " " << y;
      double error = 0;
      double darker = 0;
      for (int c = 0; c < 3; ++c) {
        const float one = whole.values(Layer::color, c)(x, y);
        const float two = parts.values(Layer::color, c)(x, y);
        error = std::max(error, std::abs(static_cast<double>(one) - static_cast<double>(two)));
        darker = std::max(darker, static_cast<double>(plate.made.values(Layer::color, c)(x, y)) -
                                      static_cast<double>(one));
      }
      sum += error;
      if (error > 0.01) {
        // There is an edge beside it, of a shadow or of something's form.
        ++off;
        bool edge = false;
        const auto normal = [&](int nx, int ny) {
          return Eigen::Vector3f(whole.values(Layer::normal, 0)(nx, ny),
                                 whole.values(Layer::normal, 1)(nx, ny),
                                 whole.values(Layer::normal, 2)(nx, ny));
        };
        for (int dy = -1; dy <= 1; ++dy) {
          for (int dx = -1; dx <= 1; ++dx) {
            const int nx = std::clamp(x + dx, 0, 159);
            const int ny = std::clamp(y + dy, 0, 99);
            const float change =
                whole.values(Layer::color)(nx, ny) - whole.values(Layer::color)(x, y);
            edge =
                edge || std::abs(change) > 0.7 * error || normal(nx, ny).dot(normal(x, y)) < 0.9f;
          }
        }
        EXPECT_TRUE(edge) << x << " " << y;
      }
      shadowed += depth < 100 && darker > 0.05;
    }
  }
  // Light and color are told to a 500th.
  EXPECT_GT(shadowed, 300);
  EXPECT_LT(off, 80);
  EXPECT_LT(sum / 16000, 1.5e-3);
}

TEST(Plates, WithoutGuestsArePictures) {
  const PlateYard plate;
  Scene scene = plate.scene();
  scene.room().fields.clear();
  const Frame shown =
      render(compile(scene), yard_camera, yard_budget(), {.layers = {Layer::color, Layer::depth}});
  for (int y = 0; y < 100; ++y) {
    for (int x = 0; x < 160; ++x) {
      for (int c = 0; c < 3; ++c) {
        const float color = plate.made.values(Layer::color, c)(x, y);
        // A 1023th of the brightest channel.
        ASSERT_NEAR(shown.values(Layer::color, c)(x, y), color, 1.1e-3f) << x << " " << y;
      }
    }
  }
}

/// A post before a wall of another color, and with `guest` a ball between them; pictures are even
/// light, so that what differs are edges.
Scene posts(bool guest) {
  Scene scene;
  const auto made_of = [&](float r, float g, float b) {
    return static_cast<int>(material_of(scene.wall({.base = {r, g, b}, .glow = 1})));
  };
  Room& room = scene.room();
  room.fog.start = 1e5;
  room.fog.end = 2e5;
  const int wall = made_of(0.9f, 0.85f, 0.3f);
  const int post = made_of(0.1f, 0.15f, 0.2f);
  const int ball = made_of(0.1f, 0.6f, 0.5f);
  room.light.ambient = {1, 1, 1};
  room.add(field::place({0, 4, 1}, field::box({12, 0.4, 8})).made_of(wall));
  room.add(
      field::place({-0.35, -1, 1}, field::box({0.22, 0.1, 4}), {0, degrees(14), 0}).made_of(post));
  room.add(field::place({0.6, -1, 1.2}, field::sphere(0.35)).made_of(post));
  if (guest) room.add(field::place({0.1, 1, 1.1}, field::sphere(1.1)).made_of(ball));
  return scene;
}

TEST(Plates, EdgesHaveNoFringeOfWhatWasBehind) {
  const Camera camera{.eye = {0.05, -4, 1.1}, .heading = degrees(90)};
  Budget budget{.frame = {96, 72, 64}};
  budget.light.corners = Corners::none;
  const LayerSet layers{Layer::color, Layer::depth, Layer::ending};
  const Frame picture = render(compile(posts(false)), camera, budget, {.layers = layers});
  const Frame whole = render(compile(posts(true)), camera, budget, {.layers = layers});
  Pixels pixels({96, 72});
  for (int y = 0; y < 72; ++y) {
    for (int x = 0; x < 96; ++x) {
      const std::size_t i = pixels.at(x, y);
      pixels.red[i] = picture.values(Layer::color, 0)(x, y);
      pixels.green[i] = picture.values(Layer::color, 1)(x, y);
      pixels.blue[i] = picture.values(Layer::color, 2)(x, y);
      pixels.depth[i] = picture.values(Layer::depth)(x, y);
    }
  }
  Scene scene = posts(true);
  const Field ball = scene.room().fields.back();
  scene.room().fields = {ball};
  scene.room().add(pixels.plate(camera));
  const Frame parts = render(compile(scene), camera, budget, {.layers = layers});
  scene.room().fields.clear();
  const Frame alone = render(compile(scene), camera, budget, {.layers = layers});
  const Viewing seen = viewing(camera, {96, 72});
  int mixed = 0;
  double worst = 0;
  double sum = 0;
  for (int y = 1; y < 71; ++y) {
    for (int x = 1; x < 95; ++x) {
      // Without guests edges are those of the picture.
      for (int c = 0; c < 3; ++c) {
        ASSERT_NEAR(alone.values(Layer::color, c)(x, y), picture.values(Layer::color, c)(x, y),
                    4e-3f)
            << x << " " << y;
      }
      // Edges of the post and the small ball over the guest, away from its own.
      const float red = picture.values(Layer::color, 0)(x, y);
      const bool edge = red > 0.14f && red < 0.86f;
      const Vec3d way = seen.ray(seen.u(x + 0.5), seen.v(y + 0.5));
      const Vec3d off = Vec3d(0.1, 1, 1.1) - camera.eye;
      const bool over_guest = (off - off.dot(way) * way).norm() < 1;
      if (!edge || !over_guest) continue;
      ++mixed;
      double error = 0;
      for (int c = 0; c < 3; ++c) {
        error = std::max(error, std::abs(static_cast<double>(parts.values(Layer::color, c)(x, y)) -
                                         static_cast<double>(whole.values(Layer::color, c)(x, y))));
      }
      sum += error;
      worst = std::max(worst, error);
    }
  }
  EXPECT_GT(mixed, 60);
  // The wall's yellow would add up to 0.8.
  EXPECT_LT(sum / mixed, 0.02);
  EXPECT_LT(worst, 0.12);
}

TEST(Plates, BallsCastTheShadowsThatGeometrySays) {
  // A level plate of a floor, seen from straight above; a ball over it, and a sun.
  const Size size{200, 200};
  Pixels pixels(size);
  const Camera above{.eye = {0, 0, 10}, .pitch = degrees(-90)};
  for (float& depth : pixels.depth) depth = 10;
  Scene scene;
  scene.room().fog = {.start = 1e5, .end = 2e5};
  scene.room().add(pixels.plate(above));
  const double radius = 0.8;
  const Vec3d center(0.5, -0.7, 1.9);
  scene.room().add(field::place(center, field::sphere(radius)));
  scene.room().light.ambient = {0.25f, 0.25f, 0.25f};
  const Sun sun{.heading = degrees(130), .elevation = degrees(55), .size = 0};
  scene.room().light.sun = sun;
  Budget budget{.frame = {200, 200, 1}};
  budget.light.corners = Corners::none;
  const Frame frame = render(compile(scene), above, budget, {.layers = {Layer::color}});
  const Viewing seen = viewing(above, size);
  const Vec3d toward = sun_direction(sun);
  int dark = 0;
  for (int y = 0; y < 200; ++y) {
    for (int x = 0; x < 200; ++x) {
      const Vec3d way = seen.forward + seen.u(x + 0.5) * seen.right + seen.v(y + 0.5) * seen.up;
      const Vec3d place = above.eye + 10 * way;
      // Seen past the ball, and how near its middle the way to the sun comes.
      const Vec3d off = center - above.eye;
      const Vec3d unit = way.normalized();
      if ((off - off.dot(unit) * unit).norm() < radius + 0.02) continue;
      const Vec3d up = center - place;
      const double passes = (up - up.dot(toward) * toward).norm();
      if (std::abs(passes - radius) < 0.01) continue;
      const float color = frame.values(Layer::color)(x, y);
      const double squarely = toward.z();
      const double lit = 1 - (1 - 0.25) * (1 - squarely * double{sun.color[0]});
      if (passes < radius) {
        ++dark;
        EXPECT_NEAR(color, 0.5 * 0.25 / lit, 2e-3) << x << " " << y;
      } else {
        EXPECT_NEAR(color, 0.5, 1e-3) << x << " " << y;
      }
    }
  }
  EXPECT_GT(dark, 500);
}

TEST(Plates, HideWhatIsBehind) {
  const PlateYard plate;
  Scene scene = plate.scene();
  Room& room = scene.room();
  room.fields = {field::place({0, 5, 1}, field::sphere(0.5))};
  const Frame hidden =
      render(compile(scene), yard_camera, yard_budget(), {.layers = {Layer::depth}});
  for (int y = 0; y < 100; ++y) {
    for (int x = 0; x < 160; ++x) {
      const float depth = plate.made.values(Layer::depth)(x, y);
      if (depth < 100) ASSERT_NEAR(hidden.values(Layer::depth)(x, y), depth, 2e-4f * depth);
    }
  }
}

TEST(Plates, AreSeenInMirrorsWhereTheyAre) {
  // A level floor seen from above, redder toward the east and greener toward the north; an upright
  // mirror on it, and an eye before that.
  const Size size{400, 400};
  Pixels pixels(size);
  const Camera above{.eye = {0, 0, 12}, .pitch = degrees(-90)};
  const Viewing from_above = viewing(above, size);
  const auto red = [](double x) { return 0.5 + 0.08 * x; };
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      const Vec3d place =
          above.eye + 12 * (from_above.forward + from_above.u(x + 0.5) * from_above.right +
                            from_above.v(y + 0.5) * from_above.up);
      pixels.depth[pixels.at(x, y)] = 12;
      pixels.red[pixels.at(x, y)] = static_cast<float>(red(place.x()));
      pixels.green[pixels.at(x, y)] = static_cast<float>(red(place.y()));
    }
  }
  Scene scene;
  scene.room().fog = {.start = 1e5, .end = 2e5};
  scene.room().add(pixels.plate(above));
  const int mirror =
      static_cast<int>(material_of(scene.wall({.base = {1, 1, 1}, .roughness = 0, .metal = 1})));
  scene.room().add(field::place({2.5, 0, 1}, field::box({0.2, 4, 2})).made_of(mirror));
  const Camera camera{.eye = {-1, -0.5, 1.2}, .heading = degrees(10), .pitch = degrees(-6)};
  const Budget budget{.frame = {120, 80, 1}};
  const Frame frame =
      render(compile(scene), camera, budget, {.layers = {Layer::color, Layer::depth}});
  const Viewing seen = viewing(camera, {120, 80});
  int mirrored = 0;
  for (int y = 0; y < 80; ++y) {
    for (int x = 0; x < 120; ++x) {
      const Vec3d way = seen.forward + seen.u(x + 0.5) * seen.right + seen.v(y + 0.5) * seen.up;
      const double to_mirror = (2.4 - camera.eye.x()) / way.x();
      const Vec3d met = camera.eye + to_mirror * way;
      if (std::abs(met.y()) > 1.95 || met.z() > 1.95 || met.z() < 0.05 || way.z() > -0.02) continue;
      const double to_floor = -met.z() / way.z();
      const Vec3d floor(met.x() - to_floor * way.x(), met.y() + to_floor * way.y(), 0);
      if (floor.head<2>().cwiseAbs().maxCoeff() > 5) continue;
      ++mirrored;
      // To a pixel of the plate, 0.03 m, and a 1023th.
      ASSERT_NEAR(frame.values(Layer::color, 0)(x, y), red(floor.x()), 4e-3) << x << " " << y;
      ASSERT_NEAR(frame.values(Layer::color, 1)(x, y), red(floor.y()), 4e-3) << x << " " << y;
    }
  }
  EXPECT_GT(mirrored, 800);
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

TEST(PlateCheck, FindsWrongConventions) {
  // Yards seen by cameras at random, their depth written one way and said to be another.
  int found = 0;
  int tried = 0;
  for (std::uint64_t seed = 1; seed <= 100; ++seed) {
    const auto random = [&](std::uint64_t n, double low, double high) {
      return low + (high - low) * random_uniform({.seed = seed}, n);
    };
    const Camera camera{.eye = {random(0, -2, 2), random(1, -6, -3), random(2, 1, 3)},
                        .heading = degrees(random(3, 70, 110)),
                        .pitch = degrees(random(4, -25, -8)),
                        .field_of_view = degrees(random(5, 40, 80))};
    const Size size{80, 50};
    const Frame frame = render(compile(yard(true)), camera, {.frame = {80, 50, 1}},
                               {.layers = {Layer::depth, Layer::ending}});
    const Viewing seen = viewing(camera, size);
    const PlateDepth ways[] = {
        {.kind = DepthKind::axis},
        {.kind = DepthKind::ray},
        {.kind = DepthKind::axis, .unit = 0.01},
        {.kind = DepthKind::buffer, .farthest = 500},
        {.kind = DepthKind::buffer, .farthest = 500, .range = BufferRange::one_to_zero},
        {.kind = DepthKind::buffer, .farthest = 500, .range = BufferRange::minus_one_to_one}};
    const std::size_t is = static_cast<std::size_t>(random(6, 0, 6));
    std::size_t said = static_cast<std::size_t>(random(7, 0, 5));
    if (said >= is) ++said;
    Pixels pixels(size);
    std::vector<PlateMark> marks;
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) {
        const Vec3d way = seen.forward + seen.u(x + 0.5) * seen.right + seen.v(y + 0.5) * seen.up;
        const bool met =
            frame.codes(Layer::ending)(x, y) == static_cast<std::uint32_t>(Ending::hit);
        const double distance = met ? static_cast<double>(frame.values(Layer::depth)(x, y))
                                    : std::numeric_limits<double>::infinity();
        pixels.depth[pixels.at(x, y)] =
            static_cast<float>(plate_number(ways[is], distance, way.norm()));
        if (met && (x * 7 + y * 13) % 97 == 0) {
          marks.push_back({x + 0.5, y + 0.5, camera.eye + distance * way});
        }
      }
    }
    ASSERT_GE(marks.size(), 8u);
    Plate plate = pixels.plate(camera);
    plate.means = ways[is];
    const bool by_marks = seed % 2 == 0;
    if (by_marks) {
      plate.marks = marks;
    } else {
      plate.ground = 0;
    }
    // As it is, nothing is wrong.
    EXPECT_THAT(find_plate_faults(plate), ::testing::IsEmpty()) << seed;
    plate.means = ways[said];
    // Distances along the axis and along rays differ where the view is wide.
    const std::vector<std::string> faults = find_plate_faults(plate);
    ++tried;
    if (faults.empty()) continue;
    const PlateDepth& right = ways[is];
    const std::string wanted = right.kind == DepthKind::axis ? "along the view axis"
                               : right.kind == DepthKind::ray
                                   ? "along the ray"
                                   : fmt::format("buffer of {}", name_of(right.range));
    found += faults.front().find("looks like") != std::string::npos &&
             faults.front().find(wanted) != std::string::npos;
  }
  EXPECT_GE(found, 95) << "of " << tried;
}

TEST(PlateCheck, FindsPicturesThatAreUpsideDown) {
  PlateYard yard_plate;
  Plate plate = yard_plate.pixels.plate(yard_camera);
  const Viewing seen = viewing(yard_camera, {160, 100});
  for (const auto& [x, y] : {std::pair(20, 80), std::pair(90, 70), std::pair(130, 95)}) {
    const Vec3d way = seen.forward + seen.u(x + 0.5) * seen.right + seen.v(y + 0.5) * seen.up;
    const auto depth = static_cast<double>(plate.depth.at(x, y));
    plate.marks.push_back({x + 0.5, y + 0.5, yard_camera.eye + depth * way});
  }
  EXPECT_THAT(find_plate_faults(plate), ::testing::IsEmpty());
  Plate turned = plate;
  turned.depth.values += 160 * 99;
  turned.depth.down = -160;
  ASSERT_EQ(find_plate_faults(turned).size(), 1u);
  EXPECT_THAT(find_plate_faults(turned).front(), HasSubstr("rows from below"));
  Plate marked = plate;
  for (PlateMark& mark : marked.marks) mark.y = 100 - mark.y;
  ASSERT_FALSE(find_plate_faults(marked).empty());
  EXPECT_THAT(find_plate_faults(marked).front(), HasSubstr("with rows from below"));
  Plate elsewhere = plate;
  elsewhere.camera.heading += degrees(3);
  ASSERT_FALSE(find_plate_faults(elsewhere).empty());
  EXPECT_THAT(find_plate_faults(elsewhere).front(), HasSubstr("pixels off"));
}

}  // namespace
}  // namespace photonlane
