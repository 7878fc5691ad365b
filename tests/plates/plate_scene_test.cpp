// Scenes of which a part is a plate: against the whole scene, and shadows, mirrors and edges
// against closed forms.

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/plates.hpp"

namespace photonlane {
namespace {

using namespace test;

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
  const Pixels pixels(picture);
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

TEST(Plates, CoverAsMuchAsTheirAlphaSays) {
  // A disk with soft edges that stands 2 m before the eye, a ball behind it, and nothing else: the
  // colors are times their alpha.
  const Size size{48, 36};
  const Camera camera{.eye = {0, 0, 1}};
  Pixels pixels(size);
  pixels.alpha.assign(pixels.depth.size(), 0);
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      const double away = std::hypot(x + 0.5 - 24, y + 0.5 - 18);
      const double alpha = std::clamp((14 - away) / 6, 0.0, 1.0);
      const std::size_t i = pixels.at(x, y);
      pixels.alpha[i] = static_cast<float>(alpha);
      pixels.red[i] = static_cast<float>(0.8 * alpha);
      pixels.green[i] = static_cast<float>((0.3 + 0.01 * x) * alpha);
      pixels.blue[i] = static_cast<float>(0.1 * alpha);
      pixels.depth[i] = 2;
    }
  }
  Scene scene;
  const int glow =
      static_cast<int>(material_of(scene.wall({.base = {0.1f, 0.7f, 0.9f}, .glow = 1})));
  Room& room = scene.room();
  room.fog.start = 1e5;
  room.fog.end = 2e5;
  room.light.ambient = {1, 1, 1};
  room.add(field::place({9, 0, 1}, field::sphere(6)).made_of(glow));
  Budget budget{.frame = {48, 36, 1}};
  budget.light.corners = Corners::none;
  const Frame behind = render(compile(scene), camera, budget, {.layers = {Layer::color}});
  room.add(pixels.plate(camera));
  const Frame frame =
      render(compile(scene), camera, budget, {.layers = {Layer::color, Layer::depth}});
  int partly = 0;
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      const std::size_t i = pixels.at(x, y);
      const float left = 1 - pixels.alpha[i];
      partly += left > 0.01f && left < 0.99f;
      const float own[] = {pixels.red[i], pixels.green[i], pixels.blue[i]};
      for (int c = 0; c < 3; ++c) {
        const float expected = own[c] + behind.values(Layer::color, c)(x, y) * left;
        ASSERT_NEAR(frame.values(Layer::color, c)(x, y), expected, 5e-3f) << x << " " << y;
      }
      if (left < 0.4f) EXPECT_NEAR(frame.values(Layer::depth)(x, y), 2, 1e-5);
      if (left > 0.8f) EXPECT_GT(frame.values(Layer::depth)(x, y), 2.1f);
    }
  }
  EXPECT_GT(partly, 200);
}

TEST(Plates, ShowWhatHasNoPlaceInfinitelyFar) {
  // A floor with a sky of the plate's own above.
  Pixels pixels({40, 30});
  const Camera camera{.eye = {0, 0, 1}};
  const Viewing view = viewing(camera, {40, 30});
  for (int y = 0; y < 30; ++y) {
    const double v = view.v(y + 0.5);
    for (int x = 0; x < 40; ++x) {
      pixels.depth[pixels.at(x, y)] =
          v < 0 ? static_cast<float>(-1 / v) : std::numeric_limits<float>::infinity();
    }
  }
  Scene scene;
  scene.room().add(pixels.plate(camera));
  const World world = compile(scene);
  LayerSet layers = motion_layers;
  for (const Layer layer : {Layer::color, Layer::depth}) layers.add(layer);
  const Budget budget{.frame = {40, 30, 1}};
  Frame frame = render(world, camera, budget, {.layers = layers});
  Camera then = camera;
  then.eye += Vec3d(0, 1, 0);
  add_motion(frame, world, camera, world, then);
  const DeepPicture deep = make_deep(world, camera, budget);
  Budget half = budget;
  half.frame.scale = 0.5;
  const Frame scaled = render(world, camera, half, {.layers = {Layer::color}});
  for (int y = 0; y < 30; ++y) {
    for (int x = 0; x < 40; ++x) {
      const bool sky = y < 15;
      EXPECT_EQ(std::isinf(frame.values(Layer::depth)(x, y)), sky) << x << " " << y;
      EXPECT_EQ(std::isinf(frame.values(Layer::ray_distance)(x, y)), sky);
      EXPECT_EQ(std::isinf(deep.pixel(x, y).front().z), sky);
      EXPECT_NEAR(frame.values(Layer::color)(x, y), 0.5f, 2e-3f);
      EXPECT_NEAR(scaled.values(Layer::color)(x, y), 0.5f, 2e-3f);
      // Going aside moves what is near alone.
      if (sky) EXPECT_NEAR(frame.values(Layer::motion, 0)(x, y), 0, 1e-4f);
      if (y > 16) EXPECT_GT(frame.values(Layer::motion, 0)(x, y), 1);
    }
  }
  EXPECT_EQ(compare(frame, frame).depth_median, 0);
  EXPECT_THAT(io::lane_text(log_lane(world, camera, budget, 20, 2), scene, world),
              ::testing::HasSubstr("infinitely far"));
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

}  // namespace
}  // namespace photonlane
