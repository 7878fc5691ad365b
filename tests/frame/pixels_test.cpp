#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/plain_walk.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using test::everything;
using test::hash_of;
using test::with_layers;
using ::testing::HasSubstr;

Scene garden() {
  Scene scene;
  scene.wall({.base = {0.5f, 0.3f, 0.2f}});
  scene.room().add(test::random_map(60, 50, 0.06, 17, true));
  CellMap& map = scene.room().cell_map();
  map.wall_height = 2.5;
  for (int x = 28; x < 33; ++x) map.at(x, 25) = empty_cell;
  map.at(59, 25) = empty_cell;
  return scene;
}

Budget with_rays(Rays rays, Size size, int samples = 1) {
  Budget budget;
  budget.frame = {size.width, size.height, samples};
  budget.rays = rays;
  return budget;
}

TEST(Pixels, AgreeWithColumnsWhereTheCameraIsLevel) {
  const World world = compile(garden());
  for (const Projection projection : {Projection::planar, Projection::cylindrical}) {
    for (const NumberType number : {NumberType::float32, NumberType::float64}) {
      for (const double heading : {0.0, 33.0, 90.0, 211.0}) {
        Camera camera{
            .eye = {30.4, 25.3, 1.2}, .heading = degrees(heading), .projection = projection};
        camera.field_of_view = degrees(70);
        Budget budget = with_rays(Rays::columns, {301, 183});
        budget.number = number;
        const Frame columns = render(world, camera, budget, with_layers(everything));
        budget.rays = Rays::pixels;
        const Frame pixels = render(world, camera, budget, with_layers(everything));
        int inner = 0;
        int other = 0;
        double worst = 0;
        for (int y = 1; y < 182; ++y) {
          for (int x = 1; x < 300; ++x) {
            // Away from silhouettes: where all neighbors see the same thing.
            const auto same = [&](int dx, int dy) {
              return columns.codes(Layer::cell)(x + dx, y + dy) ==
                         columns.codes(Layer::cell)(x, y) &&
                     columns.codes(Layer::face)(x + dx, y + dy) == columns.codes(Layer::face)(x, y);
            };
            if (!same(1, 0) || !same(-1, 0) || !same(0, 1) || !same(0, -1)) continue;
            ++inner;
            other += columns.codes(Layer::cell)(x, y) != pixels.codes(Layer::cell)(x, y) ||
                     columns.codes(Layer::face)(x, y) != pixels.codes(Layer::face)(x, y) ||
                     columns.codes(Layer::ending)(x, y) != pixels.codes(Layer::ending)(x, y);
            const double a = columns.values(Layer::depth)(x, y);
            const double b = pixels.values(Layer::depth)(x, y);
            if (std::isfinite(a)) worst = std::max(worst, std::abs(a - b) / std::max(1.0, a));
          }
        }
        EXPECT_EQ(other, 0) << name_of(projection) << " " << heading;
        EXPECT_LT(worst, 1e-4) << name_of(projection) << " " << heading;
        EXPECT_GT(inner, 301 * 183 / 2);
        EXPECT_LT(compare(pixels, columns).rmse, 2e-3);
      }
    }
  }
}

TEST(Pixels, EveryRayOfATiltedCameraIsWhatGeometrySays) {
  const Scene scene = garden();
  const World world = compile(scene);
  const CellMap& map = scene.room().cell_map();
  const Camera camera{.eye = {30.4, 25.3, 1.1},
                      .heading = degrees(70),
                      .pitch = degrees(-24),
                      .roll = degrees(13),
                      .field_of_view = degrees(80)};
  Budget budget = with_rays(Rays::automatic, {161, 121});
  budget.number = NumberType::float64;
  const Frame frame = render(world, camera, budget, with_layers(everything));
  // The camera's axes by turning one after the other: heading, pitch, then roll about the view.
  const Vec3d forward(std::cos(camera.pitch) * std::cos(camera.heading),
                      std::cos(camera.pitch) * std::sin(camera.heading), std::sin(camera.pitch));
  const Vec3d level(std::sin(camera.heading), -std::cos(camera.heading), 0);
  const auto cross = [](const Vec3d& a, const Vec3d& b) {
    return Vec3d(a.y() * b.z() - a.z() * b.y(), a.z() * b.x() - a.x() * b.z(),
                 a.x() * b.y() - a.y() * b.x());
  };
  const Vec3d steep = cross(level, forward);
  const Vec3d right = level * std::cos(camera.roll) - steep * std::sin(camera.roll);
  const Vec3d up = steep * std::cos(camera.roll) + level * std::sin(camera.roll);
  const double focal = 60.5 / std::tan(degrees(40));
  int walls = 0;
  for (int y = 0; y < 121; ++y) {
    for (int x = 0; x < 161; ++x) {
      const Vec3d ray =
          (forward + right * ((x + 0.5 - 80.5) / focal) + up * ((60.5 - y - 0.5) / focal))
              .normalized();
      const double to_level = ray.z() < 0 ? -1.1 / ray.z() : (2.5 - 1.1) / ray.z();
      const auto wall = test::plain_walk(map, 30.4, 25.3, ray.x(), ray.y(), 200);
      const auto face = static_cast<Face>(frame.codes(Layer::face)(x, y));
      if (wall.hit && wall.t < to_level) {
        ++walls;
        EXPECT_EQ(frame.codes(Layer::cell)(x, y), static_cast<std::uint32_t>(wall.y * 60 + wall.x));
        EXPECT_NEAR(frame.values(Layer::ray_distance)(x, y), wall.t, 1e-5 * wall.t + 1e-6);
      } else {
        EXPECT_EQ(face, ray.z() < 0 ? Face::floor : Face::ceiling);
        EXPECT_NEAR(frame.values(Layer::ray_distance)(x, y), to_level, 1e-5 * to_level);
        EXPECT_NEAR(frame.values(Layer::depth)(x, y), to_level * ray.dot(forward), 1e-5 * to_level);
      }
    }
  }
  EXPECT_GT(walls, 2000);
}

TEST(Pixels, StraightUpAndDownAreDirectionsToo) {
  const World world = compile(garden());
  for (const double pitch : {-90.0, 90.0}) {
    const Camera camera{.eye = {30.4, 25.3, 1.0}, .pitch = degrees(pitch)};
    const Frame frame =
        render(world, camera, with_rays(Rays::automatic, {33, 33}), with_layers(everything));
    EXPECT_EQ(static_cast<Face>(frame.codes(Layer::face)(16, 16)),
              pitch < 0 ? Face::floor : Face::ceiling);
    EXPECT_NEAR(frame.values(Layer::depth)(16, 16), pitch < 0 ? 1.0 : 1.5, 1e-6);
  }
}

TEST(Pixels, TheSameBytesForAnyNumberOfThreadsAndAnyVectorWidth) {
  const World world = compile(garden());
  const Camera camera{.eye = {30.4, 25.3, 1.1}, .heading = 2, .pitch = 0.2, .roll = -0.3};
  for (const int samples : {1, 3}) {
    const Budget budget = with_rays(Rays::pixels, {133, 71}, samples);
    const auto hashes = [&](int threads) {
      const Frame frame = render(world, camera, budget, with_layers(everything, threads));
      std::vector<std::uint64_t> result;
      for (const Layer layer : everything.list()) {
        result.push_back(hash_of(frame, layer));
      }
      return result;
    };
    const auto expected = hashes(1);
    for (const int threads : {0, 2, 5}) EXPECT_EQ(hashes(threads), expected);
    test::for_each_target([&](const char* name) { EXPECT_EQ(hashes(2), expected) << name; });
  }
}

TEST(Pixels, LayersComeAloneOrTogetherAlike) {
  const World world = compile(garden());
  const Camera camera{.eye = {30.4, 25.3, 1.1}, .pitch = 0.4};
  const Budget budget = with_rays(Rays::pixels, {70, 41}, 2);
  const Frame all = render(world, camera, budget, with_layers(everything));
  for (const Layer layer : everything.list()) {
    EXPECT_EQ(hash_of(render(world, camera, budget, with_layers({layer})), layer),
              hash_of(all, layer))
        << name_of(layer);
  }
  EXPECT_EQ(all.tally.lanes, 70u * 41u * 3u) << "two samples and the center";
}

TEST(Pixels, LookAtPutsTheTargetIntoTheMiddle) {
  const Vec3d eye(30.4, 25.3, 1.1);
  const Vec3d target(32.1, 23.9, 0.4);
  const Camera camera = Camera::look_at(eye, target, degrees(40));
  const Viewing view = viewing(camera, {100, 80});
  EXPECT_NEAR((view.forward - (target - eye).normalized()).norm(), 0, 1e-12);
  EXPECT_NEAR(view.right.z(), 0, 1e-15);
  EXPECT_TRUE(Camera::look_at(eye, eye + Vec3d(1, 1, 0), 1).level());
}

TEST(Pixels, ColumnsRefuseATiltedCamera) {
  const World world = compile(garden());
  try {
    render(world, Camera{.eye = {30.4, 25.3, 1.1}, .pitch = 0.1}, with_rays(Rays::columns, {8, 8}));
    FAIL();
  } catch (const Error& error) {
    EXPECT_THAT(error.what(), HasSubstr("columns need a level camera"));
  }
}

}  // namespace
}  // namespace photonlane
