// Frames for pictures that are put together elsewhere: mattes, alpha without a backdrop, and where
// what is seen moves until another time.

#include <gmock/gmock.h>

#include <cmath>
#include <cstring>
#include <limits>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/portals.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

constexpr Size small{72, 44};

/// Balls and posts before an open sky, of three materials.
Scene posts() {
  Scene scene;
  scene.wall({.base = {0.6f, 0.5f, 0.4f}}, "sand");
  scene.wall({.base = {0.2f, 0.5f, 0.3f}}, "leaf");
  scene.wall({.base = {0.5f, 0.3f, 0.2f}}, "clay");
  Room& room = scene.room();
  room.fog.start = 1e5;
  room.fog.end = 2e5;
  room.fog.color = {0.2f, 0.4f, 0.9f};
  for (int i = -3; i <= 3; ++i) {
    room.add(field::place({0.45 * i, 0.2 * i, 0.7}, field::box({0.07, 0.07, 1.4})).made_of(1));
  }
  room.add(field::place({0, 0.6, 0.5}, field::sphere(0.5)).made_of(2));
  room.add(field::place({0, 0, -0.05}, field::box({3, 2, 0.1})).made_of(0));
  room.light.sun.emplace();
  return scene;
}
const Camera there = Camera::look_at({0.4, -4, 1.4}, {0, 0, 0.7}, 0.7);

Budget with_samples(int samples) {
  Budget budget{.frame = {small.width, small.height, samples}};
  budget.light.corners = Corners::none;
  return budget;
}

TEST(Mattes, AreTheShareOfAPixelThatShowsAThing) {
  for (const int samples : {1, 4, 7}) {
    const Budget budget = with_samples(samples);
    const Matte matte = make_matte(compile(posts()), there, budget);
    ASSERT_EQ(matte.things.size(), 4u);
    EXPECT_EQ(matte.left_out, 0u);
    // What glows by itself is as bright in a pixel as it is large there.
    for (std::uint32_t thing = 0; thing < 3; ++thing) {
      Scene scene = posts();
      Room& room = scene.room();
      room.light = {};
      room.light.ambient = {0, 0, 0};
      room.fog.color = {0, 0, 0};
      for (std::uint32_t i = 0; i < 3; ++i) {
        scene.materials[i] = {.base = {1, 1, 1}, .glow = i == thing ? 1.0f : 0.0f};
      }
      const Frame frame = render(compile(scene), there, budget);
      int partly = 0;
      for (int y = 0; y < small.height; ++y) {
        for (int x = 0; x < small.width; ++x) {
          const float share = matte.share(x, y, thing);
          partly += share > 0 && share < 1;
          ASSERT_NEAR(share, frame.values(Layer::color)(x, y), 1e-5f) << x << " " << y;
        }
      }
      if (samples > 1) EXPECT_GT(partly, 40);
    }
  }
}

TEST(Mattes, RankThingsByWhatTheyCover) {
  const Budget budget = with_samples(8);
  const World world = compile(posts());
  const Matte all = make_matte(world, there, budget, {.ranks = 8, .threads = 1});
  const Matte few = make_matte(world, there, budget, {.ranks = 1, .threads = 3});
  std::size_t more = 0;
  for (std::size_t i = 0; i < all.things[0].size(); ++i) {
    float sum = 0;
    for (std::size_t rank = 0; rank < 8; ++rank) {
      sum += all.shares[rank][i];
      EXPECT_EQ(all.shares[rank][i] == 0, all.things[rank][i] == Matte::nothing);
      if (rank == 0) continue;
      ASSERT_LE(all.shares[rank][i], all.shares[rank - 1][i]);
      if (all.shares[rank][i] == all.shares[rank - 1][i]) {
        ASSERT_GE(all.things[rank][i], all.things[rank - 1][i]);
      }
    }
    ASSERT_LE(sum, 1);
    more += all.shares[1][i] > 0;
    ASSERT_EQ(few.things[0][i], all.things[0][i]);
    ASSERT_EQ(few.shares[0][i], all.shares[0][i]);
  }
  EXPECT_GT(more, 50u);
  EXPECT_EQ(few.left_out, more);
  EXPECT_EQ(all.left_out, 0u);
}

TEST(Mattes, TellCellsAndRoomsAndRefuseWhatIsNone) {
  Scene scene = with_materials();
  std::vector<Sphere> balls;
  for (int i = 0; i < 9; ++i) {
    balls.push_back({.center = {i % 3 * 0.5 - 0.5, 0.2 * i, i / 3 * 0.5}, .radius = 0.2});
  }
  scene.room().add(Spheres(balls));
  const World world = compile(scene);
  const Camera camera = Camera::look_at({0, -4, 0.6}, {0, 0, 0.5}, 0.5);
  const Budget budget = with_samples(4);
  const Matte cells = make_matte(world, camera, budget, {.of = MatteOf::cell});
  double sums[9] = {};
  for (int y = 0; y < small.height; ++y) {
    for (int x = 0; x < small.width; ++x) {
      for (std::uint32_t i = 0; i < 9; ++i) sums[i] += cells.share(x, y, i);
    }
  }
  // What a ball covers of the picture, about: those in the middle are seen nearly straight on.
  const double focal = small.height / 2 / std::tan(0.25);
  for (int i = 0; i < 9; ++i) {
    const double away = (balls[static_cast<std::size_t>(i)].center - camera.eye).norm();
    const double expected = pi * std::pow(focal * 0.2 / away, 2);
    EXPECT_NEAR(sums[i], expected, 0.06 * expected) << i;
  }
  const Matte rooms = make_matte(world, camera, budget, {.of = MatteOf::room});
  EXPECT_EQ(rooms.share(36, 22, 0), cells.covered(36, 22));
  EXPECT_THROW(make_matte(world, camera, budget, {.ranks = 0}), Error);
  EXPECT_THROW(make_matte(world, camera, budget, {.ranks = 33}), Error);
  EXPECT_THROW(make_matte(world, camera, budget, {.memory_limit = 1000}), Error);
  Budget half = budget;
  half.frame.scale = 0.5;
  EXPECT_THROW(make_matte(world, camera, half), Error);
  EXPECT_THROW(make_matte(world, camera, budget, {.progress = [](double) { return false; }}),
               Error);
}

/// A pane of half opacity and a mirror among the posts.
Scene with_pane_and_mirror() {
  Scene scene = posts();
  Material pane{.base = {0.4f, 0.6f, 0.5f}};
  pane.opacity = 0.5f;
  Material mirror{.base = {0.8f, 0.8f, 0.8f}};
  mirror.specular = 0.9f;
  const auto glass = material_of(scene.wall(pane, "glass"));
  const auto silver = material_of(scene.wall(mirror, "silver"));
  scene.room().add(
      field::place({-1.2, -0.5, 1}, field::box({0.8, 0.01, 1.2})).made_of(static_cast<int>(glass)));
  scene.room().add(
      field::place({1.2, -0.3, 1}, field::box({0.8, 0.01, 1.2})).made_of(static_cast<int>(silver)));
  return scene;
}

/// Checks that a frame without its backdrop is the frame with it, less the backdrop's share.
void expect_share_of_backdrop(const Scene& scene, const Camera& camera, Budget budget,
                              const Color& backdrop, Frame* made = nullptr) {
  const World world = compile(scene);
  const Frame whole = render(world, camera, budget);
  budget.frame.backdrop = false;
  Frame frame = render(world, camera, budget, {.layers = {Layer::color, Layer::alpha}});
  for (int y = 0; y < small.height; ++y) {
    for (int x = 0; x < small.width; ++x) {
      const float alpha = frame.values(Layer::alpha)(x, y);
      ASSERT_GE(alpha, 0);
      ASSERT_LE(alpha, 1);
      for (int c = 0; c < 3; ++c) {
        ASSERT_NEAR(whole.values(Layer::color, c)(x, y),
                    frame.values(Layer::color, c)(x, y) + (1 - alpha) * backdrop[c], 2e-5f)
            << x << " " << y;
      }
    }
  }
  if (made != nullptr) *made = std::move(frame);
}

TEST(Backdrop, LeftOutLeavesAlpha) {
  const Budget budget = with_samples(5);
  const Scene scene = posts();
  Frame frame;
  expect_share_of_backdrop(scene, there, budget, scene.rooms[0].fog.color, &frame);
  const Matte matte = make_matte(compile(scene), there, budget);
  int partly = 0;
  for (int y = 0; y < small.height; ++y) {
    for (int x = 0; x < small.width; ++x) {
      const float alpha = frame.values(Layer::alpha)(x, y);
      partly += alpha > 0 && alpha < 1;
      ASSERT_NEAR(alpha, matte.covered(x, y), 1e-5f);
    }
  }
  EXPECT_GT(partly, 40);
}

TEST(Backdrop, IsLeftOutBehindPanesAndPortalsToo) {
  // What a mirror shows is no backdrop.
  const Scene scene = with_pane_and_mirror();
  Frame frame;
  expect_share_of_backdrop(scene, there, with_samples(1), scene.rooms[0].fog.color, &frame);
  int half = 0;
  for (int y = 0; y < small.height; ++y) {
    for (int x = 0; x < small.width; ++x) {
      half += std::abs(frame.values(Layer::alpha)(x, y) - 0.75f) < 0.01f ||
              std::abs(frame.values(Layer::alpha)(x, y) - 0.5f) < 0.01f;
    }
  }
  EXPECT_GT(half, 30);
}

TEST(Backdrop, RefusesAlphaOfFramesThatHaveOne) {
  const World world = compile(posts());
  Budget budget = with_samples(1);
  EXPECT_THROW(render(world, there, budget, {.layers = {Layer::alpha}}), Error);
  EXPECT_THROW(render(world, there, budget, {.layers = {Layer::motion}}), Error);
  budget.frame.backdrop = false;
  const Frame alone = render(world, there, budget, {.layers = {Layer::alpha}});
  const Frame both = render(world, there, budget, {.layers = {Layer::color, Layer::alpha}});
  EXPECT_EQ(hash_of(alone, Layer::alpha), hash_of(both, Layer::alpha));
  budget.frame.scale = 0.5;
  EXPECT_THROW(render(world, there, budget, {.layers = {Layer::alpha}}), Error);
  budget.frame.scale = 1;
  budget.light.transport = Transport::paths;
  EXPECT_THROW(render(world, there, budget), Error);
}

LayerSet seen_layers() {
  LayerSet layers = motion_layers;
  for (const Layer layer : {Layer::depth, Layer::material}) layers.add(layer);
  return layers;
}

/// Holds motion against the other frame: how many pixels are as far there as what moves to them,
/// where nothing else has come before it.
int expect_same_places(const Frame& frame, const Frame& next, const Camera& camera,
                       const Camera& then) {
  const Viewing here = viewing(camera, small);
  int held = 0;
  for (int y = 0; y < small.height; ++y) {
    for (int x = 0; x < small.width; ++x) {
      const double to_x = x + 0.5 + static_cast<double>(frame.values(Layer::motion, 0)(x, y));
      const double to_y = y + 0.5 + static_cast<double>(frame.values(Layer::motion, 1)(x, y));
      if (!(to_x >= 0 && to_y >= 0 && to_x < small.width && to_y < small.height)) continue;
      const int px = static_cast<int>(to_x);
      const int py = static_cast<int>(to_y);
      const float t = frame.values(Layer::ray_distance)(x, y);
      if (!std::isfinite(t)) continue;
      const Vec3d place =
          camera.eye + static_cast<double>(t) * here.ray(here.u(x + 0.5), here.v(y + 0.5));
      const double expected = (place - then.eye).norm();
      const double found = static_cast<double>(next.values(Layer::ray_distance)(px, py));
      held += std::abs(found - expected) < 0.03 * expected;
    }
  }
  return held;
}

TEST(Motion, OfACameraIsWhereTheOtherFrameShowsIt) {
  Scene scene = posts();
  scene.room().add(field::plane({0, 0, 1}, -0.1).made_of(0));
  const World world = compile(scene);
  const Budget budget = with_samples(1);
  Camera then = Camera::look_at({0.9, -3.7, 1.6}, {0.2, 0.1, 0.6}, 0.75);
  then.roll = degrees(4);
  const RenderOptions options{.layers = seen_layers()};
  Frame frame = render(world, there, budget, options);
  const Frame next = render(world, then, budget, options);
  add_motion(frame, world, there, world, then);
  std::size_t met = 0;
  for (int y = 0; y < small.height; ++y) {
    for (int x = 0; x < small.width; ++x) {
      met += std::isfinite(frame.values(Layer::ray_distance)(x, y));
    }
  }
  const int held = expect_same_places(frame, next, there, then);
  EXPECT_GT(held, 0.7 * static_cast<double>(met));
  // All else of the frame stays as it was.
  EXPECT_EQ(frame.budget.frame.size(), small);
  EXPECT_EQ(frame.tally, render(world, there, budget, options).tally);
  // Nothing moves where nothing does.
  add_motion(frame, world, there, world, there);
  for (int y = 0; y < small.height; ++y) {
    for (int x = 0; x < small.width; ++x) {
      ASSERT_NEAR(frame.values(Layer::motion, 0)(x, y), 0, 1e-4f);
      ASSERT_NEAR(frame.values(Layer::motion, 1)(x, y), 0, 1e-4f);
    }
  }
}

TEST(Motion, OfTheSkyIsTheCamerasTurn) {
  const World world = compile(posts());
  Camera then = there;
  then.heading += degrees(3);
  then.eye += Vec3d(1, 2, 0.5);
  Frame frame = render(world, there, with_samples(1), {.layers = motion_layers});
  add_motion(frame, world, there, world, then);
  // The middle of the picture lies 3 degrees to the right then, but for the pitch.
  const Viewing view = viewing(there, small);
  const Viewing after = viewing(then, small);
  for (const auto& [x, y] : {std::pair(3, 2), std::pair(40, 1), std::pair(70, 5)}) {
    ASSERT_EQ(frame.codes(Layer::ending)(x, y), static_cast<std::uint32_t>(Ending::escaped));
    const Vec3d way = view.ray(view.u(x + 0.5), view.v(y + 0.5));
    const double ahead = way.dot(after.forward);
    const double expected_x = after.center_x + after.focal * way.dot(after.right) / ahead;
    const double expected_y = after.center_y - after.focal_y * way.dot(after.up) / ahead;
    EXPECT_NEAR(x + 0.5 + frame.values(Layer::motion, 0)(x, y), expected_x, 1e-4);
    EXPECT_NEAR(y + 0.5 + frame.values(Layer::motion, 1)(x, y), expected_y, 1e-4);
  }
  // What is behind the other camera has no place in its picture.
  then.heading += pi;
  add_motion(frame, world, there, world, then);
  EXPECT_EQ(frame.values(Layer::motion, 0)(40, 1), std::numeric_limits<float>::infinity());
}

TEST(Motion, OfSpheresIsThatOfTheirMiddles) {
  Scene scene = with_materials();
  std::vector<Sphere> balls{{.center = {-0.6, 0, 0.5}, .radius = 0.4},
                            {.center = {0.6, 0.5, 0.6}, .radius = 0.3},
                            {.center = {0.2, 2, 1.1}, .radius = 0.5}};
  scene.room().add(Spheres(balls));
  scene.room().add(field::plane({0, 0, 1}).made_of(0));
  Scene after = scene;
  const Vec3d moved[] = {{0.1, 0, 0.2}, {0, 0, 0}, {-0.3, 0.4, 0}};
  for (std::size_t i = 0; i < 3; ++i) balls[i].center += moved[i];
  after.room().parts[0] = std::make_shared<Spheres>(balls);
  const World world = compile(scene);
  Frame frame = render(world, there, with_samples(1), {.layers = seen_layers()});
  add_motion(frame, world, there, compile(after, world), there);
  const Viewing view = viewing(there, small);
  int seen[4] = {};
  for (int y = 0; y < small.height; ++y) {
    for (int x = 0; x < small.width; ++x) {
      const float t = frame.values(Layer::ray_distance)(x, y);
      if (!std::isfinite(t)) continue;
      const Vec3d place =
          there.eye + static_cast<double>(t) * view.ray(view.u(x + 0.5), view.v(y + 0.5));
      Vec3d by = Vec3d::Zero();
      std::size_t which = 3;
      for (std::size_t i = 0; i < 3; ++i) {
        const Vec3d before = balls[i].center - moved[i];
        if (std::abs((place - before).norm() - balls[i].radius) < 1e-4) which = i;
      }
      ++seen[which];
      if (which < 3) by = moved[which];
      const Vec3d way = place + by - there.eye;
      const double ahead = way.dot(view.forward);
      EXPECT_NEAR(frame.values(Layer::motion, 0)(x, y),
                  view.center_x + view.focal * way.dot(view.right) / ahead - x - 0.5, 1e-3);
      EXPECT_NEAR(frame.values(Layer::motion, 1)(x, y),
                  view.center_y - view.focal_y * way.dot(view.up) / ahead - y - 0.5, 1e-3);
    }
  }
  for (const int count : seen) EXPECT_GT(count, 20);
}

TEST(Motion, RefusesFramesWithoutItsLayers) {
  const World world = compile(posts());
  Frame frame = render(world, there, with_samples(1), {.layers = {Layer::color}});
  try {
    add_motion(frame, world, there, world, there);
    FAIL();
  } catch (const Error& error) {
    EXPECT_THAT(error.what(), HasSubstr("ray_distance"));
  }
}

/// The samples of a pixel over one another.
struct Flat {
  double color[3] = {};
  double alpha = 0;
};
Flat flattened(std::span<const DeepSample> samples) {
  Flat flat;
  for (const DeepSample& sample : samples) {
    const double left = 1 - flat.alpha;
    flat.color[0] += left * static_cast<double>(sample.red);
    flat.color[1] += left * static_cast<double>(sample.green);
    flat.color[2] += left * static_cast<double>(sample.blue);
    flat.alpha += left * static_cast<double>(sample.alpha);
  }
  return flat;
}

TEST(DeepPictures, LaidOverOneAnotherAreTheFrame) {
  for (const bool backdrop : {true, false}) {
    for (const int samples : {1, 6}) {
      for (const double merge : {0.0, 2e-3}) {
        Budget budget = with_samples(samples);
        budget.frame.backdrop = backdrop;
        const World world = compile(with_pane_and_mirror());
        LayerSet layers{Layer::color, Layer::depth};
        if (!backdrop) layers.add(Layer::alpha);
        const Frame frame = render(world, there, budget, {.layers = layers});
        const DeepPicture deep = make_deep(world, there, budget, {.merge = merge});
        ASSERT_EQ(deep.first.size(), static_cast<std::size_t>(small.width * small.height) + 1);
        int several = 0;
        for (int y = 0; y < small.height; ++y) {
          for (int x = 0; x < small.width; ++x) {
            const auto pixel = deep.pixel(x, y);
            several += pixel.size() > 1;
            for (std::size_t k = 1; k < pixel.size(); ++k) ASSERT_GT(pixel[k].z, pixel[k - 1].z);
            const Flat flat = flattened(pixel);
            for (int c = 0; c < 3; ++c) {
              ASSERT_NEAR(flat.color[c], frame.values(Layer::color, c)(x, y), 2e-5)
                  << x << " " << y;
            }
            const double alpha = backdrop ? 1 : frame.values(Layer::alpha)(x, y);
            ASSERT_NEAR(flat.alpha, alpha, 2e-5) << x << " " << y;
            // Of one sample, what is not looked through is where the frame has it.
            if (samples == 1 && pixel.size() == 1 && std::isfinite(pixel[0].z)) {
              ASSERT_NEAR(pixel[0].z, frame.values(Layer::depth)(x, y), 1e-4f * pixel[0].z);
            }
          }
        }
        EXPECT_GT(several, samples == 1 ? 100 : 300);
      }
    }
  }
}

TEST(DeepPictures, KnowWhatIsBehindAPane) {
  // A pane 2 m before the eye that hides a quarter, and a wall 3 m behind it.
  Scene scene;
  Material pane{.base = {1, 0, 0}, .glow = 1};
  pane.opacity = 0.25f;
  const int glass = static_cast<int>(material_of(scene.wall(pane)));
  const int brick = static_cast<int>(material_of(scene.wall({.base = {0, 0.5f, 0}, .glow = 1})));
  scene.room().fog.start = 1e5;
  scene.room().fog.end = 2e5;
  scene.room().light.ambient = {0, 0, 0};
  scene.room().add(field::place({2.005, 0, 1}, field::box({0.01, 9, 9})).made_of(glass));
  scene.room().add(field::plane({-1, 0, 0}, -5).made_of(brick));
  const DeepPicture deep =
      make_deep(compile(scene), {.eye = {0, 0, 1}}, with_samples(4), {.threads = 1});
  for (int y = 0; y < small.height; ++y) {
    for (int x = 0; x < small.width; ++x) {
      const auto pixel = deep.pixel(x, y);
      ASSERT_GE(pixel.size(), 2u);
      EXPECT_NEAR(pixel[0].z, 2, 1e-3);
      EXPECT_NEAR(pixel[0].red, pixel[0].alpha, 1e-5);
      EXPECT_EQ(pixel[0].green, 0);
      EXPECT_NEAR(pixel.back().z, 5, 1e-3);
      EXPECT_NEAR(pixel.back().green, 0.5, 1e-4);
      EXPECT_NEAR(pixel.back().alpha, 1, 1e-5);
    }
  }
  // The same for any number of threads.
  const DeepPicture again =
      make_deep(compile(scene), {.eye = {0, 0, 1}}, with_samples(4), {.threads = 3});
  ASSERT_EQ(again.samples.size(), deep.samples.size());
  EXPECT_EQ(std::memcmp(again.samples.data(), deep.samples.data(),
                        deep.samples.size() * sizeof(DeepSample)),
            0);
}

TEST(DeepPictures, OfCamerasThatSeeAllAroundAreInOrderToo) {
  Scene scene = with_pane_and_mirror();
  Camera around{.eye = {-1.2, -2, 1}};
  around.projection = Projection::cylindrical;
  around.field_axis = FieldAxis::horizontal;
  around.field_of_view = degrees(359);
  const World world = compile(scene);
  const Budget budget = with_samples(3);
  const Frame frame = render(world, around, budget);
  const DeepPicture deep = make_deep(world, around, budget);
  for (int y = 0; y < small.height; ++y) {
    for (int x = 0; x < small.width; ++x) {
      const auto pixel = deep.pixel(x, y);
      for (const DeepSample& sample : pixel) ASSERT_GE(sample.z, 0);
      const Flat flat = flattened(pixel);
      for (int c = 0; c < 3; ++c) {
        ASSERT_NEAR(flat.color[c], frame.values(Layer::color, c)(x, y), 2e-5) << x << " " << y;
      }
    }
  }
}

TEST(DeepPictures, StandEyesOnASurface) {
  // The eye is on a floor and within a ball: what is met right there has a distance as well.
  Scene scene = with_materials();
  scene.room().add(field::plane({0, 0, 1}).made_of(0));
  scene.room().add(field::place({0, 0, 0}, field::sphere(0.5)).made_of(1));
  const DeepPicture deep = make_deep(compile(scene), {.eye = {0, 0, 0}}, with_samples(2));
  for (const DeepSample& sample : deep.samples) ASSERT_FALSE(std::isnan(sample.z));
  // One pixel, and fewer rows than are made at once.
  Budget tiny = with_samples(2);
  tiny.frame.width = tiny.frame.height = 1;
  EXPECT_EQ(make_deep(compile(scene), there, tiny).first.size(), 2u);
  EXPECT_EQ(make_matte(compile(scene), there, tiny).things[0].size(), 1u);
}

TEST(DeepPictures, RefuseWhatHasOneDistance) {
  const World world = compile(posts());
  Budget budget = with_samples(1);
  EXPECT_THROW(make_deep(world, there, budget, {.merge = -1}), Error);
  EXPECT_THROW(make_deep(world, there, budget, {.memory_limit = 100}), Error);
  EXPECT_THROW(make_deep(world, there, budget, {.progress = [](double) { return false; }}), Error);
  budget.light.transport = Transport::paths;
  EXPECT_THROW(make_deep(world, there, budget), Error);
}

}  // namespace
}  // namespace photonlane
