#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

/// Texels of colors drawn at random, every one opaque.
Texture random_texture(int width, int height, std::uint64_t seed) {
  Texture texture{width, height, {}};
  for (int i = 0; i < width * height; ++i) {
    const auto bits = random_bits({.seed = seed, .pixel = static_cast<std::uint64_t>(i)}, 0);
    texture.texels.push_back(0xff000000u | (static_cast<std::uint32_t>(bits) & 0xffffffu));
  }
  return texture;
}

float channel(std::uint32_t texel, int i) {
  return from_display(static_cast<float>(texel >> 8 * i & 255) / 255);
}

/// An empty room whose walls, floor and ceiling are covered with a texture; no fog, no shade.
Scene covered_room(const Texture& texture, double tile) {
  Scene scene = test::drawn(test::square_room(8));
  const Material cover{.base = {1, 1, 1}, .texture = scene.add(texture), .tile = tile};
  scene.materials[0] = cover;
  Room& room = scene.room();
  room.floor = room.ceiling = cover;
  room.cell_map().face_shade = 1;
  room.fog.start = 1000;
  room.fog.end = 2000;
  return scene;
}

Budget sampled(TextureSampling sampling, Size size = {161, 101}) {
  Budget budget;
  budget.frame = {size.width, size.height, 1};
  budget.texture.sampling = sampling;
  return budget;
}

/// Where a pixel's ray meets a room of 8 by 8 meters with its south-west corner at (1, 1), 3 meters
/// high, and where on the texture that is: worked out from the faces' planes alone.
struct Spot {
  double u, v;    ///< tiles, before wrapping
  double margin;  ///< from the nearest edge of the room's faces
};
Spot spot_of(const Vec3d& eye, const Vec3d& ray, double tile, double aspect) {
  double nearest = 1e30;
  double second = 1e30;
  int which = -1;
  for (int axis = 0; axis < 3; ++axis) {
    if (ray[axis] == 0) continue;
    const double low = axis == 2 ? 0 : 1;
    const double high = axis == 2 ? 3 : 9;
    const double t = ((ray[axis] < 0 ? low : high) - eye[axis]) / ray[axis];
    if (t < nearest) {
      second = nearest;
      nearest = t;
      which = 2 * axis + (ray[axis] < 0 ? 1 : 0);
    } else {
      second = std::min(second, t);
    }
  }
  const Vec3d at = eye + nearest * ray;
  // Ahead, right: the wall in the east is seen looking east, with the south to the right.
  const double across[] = {-at.y(), at.y(), at.x(), -at.x(), at.x(), at.x()};
  const double up[] = {at.z(), at.z(), at.z(), at.z(), -at.y(), at.y()};
  return {across[which] / tile, up[which] / tile * aspect, second - nearest};
}

Vec3d ray_of(const Camera& camera, Size size, int x, int y) {
  const Viewing view = viewing(camera, size);
  return view.ray(view.u(x + 0.5), view.v(y + 0.5));
}

TEST(Textures, NearestShowsTheTexelThatGeometrySays) {
  const Texture texture = random_texture(37, 23, 3);
  const double tile = 1.7;
  const World world = compile(covered_room(texture, tile));
  for (const Rays rays : {Rays::columns, Rays::pixels}) {
    for (const double heading : {10.0, 95.0, 190.0, 275.0}) {
      const Camera camera{.eye = {4.3, 5.2, 1.4}, .heading = degrees(heading)};
      Budget budget = sampled(TextureSampling::nearest);
      budget.rays = rays;
      const Frame frame = render(world, camera, budget);
      int wrong = 0;
      int looked_at = 0;
      for (int y = 0; y < 101; ++y) {
        for (int x = 0; x < 161; ++x) {
          const Spot spot =
              spot_of(camera.eye, ray_of(camera, {161, 101}, x, y), tile, 37.0 / 23.0);
          const double u = (spot.u - std::floor(spot.u)) * 37;
          const double v = (1 - (spot.v - std::floor(spot.v))) * 23;
          const auto near_edge = [](double place) {
            return std::abs(place - std::round(place)) < 0.01;
          };
          if (near_edge(u) || near_edge(v) || spot.margin < 0.02) continue;
          ++looked_at;
          const std::uint32_t texel = texture.at(static_cast<int>(u), static_cast<int>(v));
          for (int i = 0; i < 3; ++i) {
            const float seen = to_display(frame.values(Layer::color, i)(x, y));
            wrong += std::abs(seen - to_display(channel(texel, i))) > 1.01f / 255;
          }
        }
      }
      EXPECT_EQ(wrong, 0) << heading;
      EXPECT_GT(looked_at, 161 * 101 * 8 / 10);
    }
  }
}

TEST(Textures, BilinearLiesBetweenTheFourTexelsAround) {
  const Texture texture = random_texture(8, 8, 11);
  const World world = compile(covered_room(texture, 4));
  const Camera camera{.eye = {4.3, 5.2, 1.4}, .heading = degrees(33)};
  const Frame frame = render(world, camera, sampled(TextureSampling::bilinear));
  double worst = 0;
  for (int y = 0; y < 101; ++y) {
    for (int x = 0; x < 161; ++x) {
      const Spot spot = spot_of(camera.eye, ray_of(camera, {161, 101}, x, y), 4, 1);
      if (spot.margin < 0.02) continue;
      const double u = spot.u * 8 - 0.5;
      const double v = -spot.v * 8 - 0.5;
      const auto at = [&](double column, double row, int i) {
        const auto wrap = [](double place) { return (static_cast<int>(place) % 8 + 8) % 8; };
        return static_cast<double>(channel(texture.at(wrap(column), wrap(row)), i));
      };
      const double left = std::floor(u);
      const double top = std::floor(v);
      for (int i = 0; i < 3; ++i) {
        const double high = at(left, top, i) * (left + 1 - u) + at(left + 1, top, i) * (u - left);
        const double low =
            at(left, top + 1, i) * (left + 1 - u) + at(left + 1, top + 1, i) * (u - left);
        const double expected = high * (top + 1 - v) + low * (v - top);
        worst = std::max(
            worst, std::abs(expected - static_cast<double>(frame.values(Layer::color, i)(x, y))));
      }
    }
  }
  EXPECT_LT(worst, 0.006);
}

TEST(Textures, FilteringComesNearerToTheTruthThanOneTexel) {
  const World world = compile(covered_room(random_texture(64, 64, 2), 0.5));
  const Camera camera{.eye = {1.3, 1.4, 1.4}, .heading = degrees(44)};
  Budget many = sampled(TextureSampling::nearest);
  many.frame.samples = 256;
  const Frame truth = render(world, camera, many);
  const auto error = [&](TextureSampling sampling) {
    return compare(render(world, camera, sampled(sampling)), truth).rmse;
  };
  const double nearest = error(TextureSampling::nearest);
  EXPECT_LT(error(TextureSampling::bilinear), nearest);
  EXPECT_LT(error(TextureSampling::filtered), 0.25 * nearest);
  // More lookups along the strip lose less of what is still to be seen.
  Budget one = sampled(TextureSampling::filtered);
  one.texture.taps = 1;
  Budget eight = sampled(TextureSampling::filtered);
  eight.texture.taps = 8;
  EXPECT_LT(compare(render(world, camera, eight), truth).rmse,
            compare(render(world, camera, one), truth).rmse);
}

/// A texture that is red in its left half and green in its right, dark in its lower half.
Texture quarters() {
  Texture texture{2, 2, {}};
  texture.texels = {pack_texel({0.8f, 0, 0}), pack_texel({0, 0.8f, 0}), pack_texel({0.2f, 0, 0}),
                    pack_texel({0, 0.2f, 0})};
  return texture;
}

TEST(Textures, AreNotMirroredOnAnyFace) {
  Scene scene = covered_room(quarters(), 8);
  // The room's walls are 8 meters long and begin at 1: shift the tile onto them.
  scene.room().cell_map().wall_height = 8;
  const World world = compile(scene);
  for (const double heading : {0.0, 90.0, 180.0, 270.0}) {
    // East and south: u = -y and u = x begin at a whole tile 1 meter outside the room.
    const Camera camera{
        .eye = {5, 5, 4}, .heading = degrees(heading), .field_of_view = degrees(20)};
    const Frame frame = render(world, camera, sampled(TextureSampling::nearest, {41, 41}));
    const auto red = [&](int x, int y) { return frame.values(Layer::color, 0)(x, y); };
    const auto green = [&](int x, int y) { return frame.values(Layer::color, 1)(x, y); };
    // Find the edge between red and green: left of it one color, right of it the other, and red
    // comes first unless the edge is the one between two tiles.
    const auto color_at = [&](double u) { return u - std::floor(u) < 0.5; };
    const Viewing view = viewing(camera, {41, 41});
    for (const int x : {2, 10, 30, 38}) {
      const Spot spot = spot_of(camera.eye, view.ray(view.u(x + 0.5), 0), 8, 1);
      EXPECT_EQ(red(x, 5) > green(x, 5), color_at(spot.u)) << heading << " " << x;
    }
    EXPECT_GT(std::max(red(5, 5), green(5, 5)), std::max(red(5, 35), green(5, 35)))
        << "the upper half is the bright one";
  }
}

TEST(Textures, WordsReadFromLeftToRightOnAllFourSidesOfABlock) {
  Scene scene = test::drawn("......\n......\n..#...\n......\n......\n......");
  scene.materials[0] = {.base = {1, 1, 1}, .texture = scene.add(quarters()), .tile = 1};
  scene.room().fog = {.start = 1000, .end = 2000};
  const World world = compile(scene);
  for (const auto& [eye, heading] :
       {std::pair{Vec3d(2.5, 0.5, 1.5), 90.0}, std::pair{Vec3d(2.5, 5.5, 1.5), 270.0},
        std::pair{Vec3d(0.2, 3.5, 1.5), 0.0}, std::pair{Vec3d(5.2, 3.5, 1.5), 180.0}}) {
    const Camera camera{.eye = eye, .heading = degrees(heading), .field_of_view = degrees(14)};
    const Frame frame = render(world, camera, sampled(TextureSampling::nearest, {31, 31}));
    const auto red_left = frame.values(Layer::color, 0)(10, 15);
    const auto green_right = frame.values(Layer::color, 1)(20, 15);
    EXPECT_GT(red_left, 0.1f) << heading;
    EXPECT_GT(green_right, 0.1f) << heading;
    EXPECT_EQ(frame.values(Layer::color, 1)(10, 15), 0) << heading;
  }
}

TEST(Textures, AnySizeWorksFromOneTexelToLongStrips) {
  for (const auto& [width, height] :
       {std::pair{1, 1}, std::pair{8191, 3}, std::pair{3, 8191}, std::pair{5, 7}}) {
    const Texture texture = random_texture(width, height, 5);
    const World world = compile(covered_room(texture, 1));
    const Camera camera{.eye = {4.3, 5.2, 1.4}, .heading = degrees(33)};
    for (const TextureSampling sampling :
         {TextureSampling::nearest, TextureSampling::bilinear, TextureSampling::filtered}) {
      const Frame frame = render(world, camera, sampled(sampling, {53, 31}));
      for (int y = 0; y < 31; ++y) {
        for (const float value : frame.values(Layer::color, 2).row(y)) {
          ASSERT_TRUE(value >= 0 && value <= 1.0001f) << width << "x" << height;
          if (width * height == 1) {
            ASSERT_NEAR(to_display(value), to_display(channel(texture.at(0, 0), 2)), 1.01 / 255);
          }
        }
      }
    }
  }
}

TEST(Textures, TheSameBytesForEveryVectorWidthAndThreadCount) {
  Scene scene = covered_room(random_texture(31, 17, 8), 0.7);
  const World world = compile(scene);
  for (const double pitch : {0.2, 0.0}) {
    const Camera camera{.eye = {4.3, 5.2, 1.4}, .heading = degrees(33), .pitch = pitch};
    for (const TextureSampling sampling :
         {TextureSampling::nearest, TextureSampling::bilinear, TextureSampling::filtered}) {
      for (const int samples : {1, 3}) {
        Budget budget = sampled(sampling);
        budget.frame.samples = samples;
        std::optional<std::uint64_t> expected;
        test::for_each_target([&](const char* target) {
          for (const int threads : {1, 2}) {
            const std::uint64_t hash = test::hash_of(
                render(world, camera, budget, test::with_layers({Layer::color}, threads)),
                Layer::color);
            if (!expected) expected = hash;
            EXPECT_EQ(hash, *expected) << target;
          }
        });
      }
    }
  }
}

TEST(Textures, ColumnsAndPixelsShowTheSameBesideWhatHasNone) {
  Scene scene = test::drawn("###.####\n#......A\n#..A...#\n...#...A\n#......#\n#A#AAA##");
  scene.materials[0].texture = scene.add(random_texture(16, 16, 4));
  scene.materials[0].base = {0.9f, 0.5f, 0.7f};
  scene.room().floor = {
      .base = {1, 1, 1}, .texture = scene.add(random_texture(32, 8, 5)), .tile = 3};
  const World world = compile(scene);
  for (const double heading : {20.0, 110.0, 200.0, 290.0}) {
    const Camera camera{.eye = {4.6, 3.3, 1.2}, .heading = degrees(heading)};
    for (const int samples : {1, 2}) {
      Budget budget = sampled(TextureSampling::nearest, {321, 201});
      budget.frame.samples = samples;
      budget.rays = Rays::columns;
      const Frame columns = render(world, camera, budget);
      budget.rays = Rays::pixels;
      const Frame pixels = render(world, camera, budget);
      int other = 0;
      for (int y = 0; y < 201; ++y) {
        for (int x = 0; x < 321; ++x) {
          for (int i = 0; i < 3; ++i) {
            other += std::abs(columns.values(Layer::color, i)(x, y) -
                              pixels.values(Layer::color, i)(x, y)) > 1e-3f;
          }
        }
      }
      // Where a sample lies on a texel's edge, rounding decides.
      EXPECT_LT(other, 3 * 321 * 201 / 1000) << heading << " " << samples;
    }
  }
}

TEST(Textures, ThoseThatCannotBeAreRefused) {
  EXPECT_THROW(validate(Texture{}), Error);
  EXPECT_THROW(validate(Texture{2, 2, {0, 0, 0}}), Error);
  EXPECT_THROW(validate(Texture{20000, 1, std::vector<std::uint32_t>(20000)}), Error);
  Scene scene = test::drawn("###\n#.#\n###");
  scene.materials[0].texture = 0;
  EXPECT_THROW(compile(scene), Error);
  EXPECT_THROW(make_texture({.width = 0}), Error);
  EXPECT_THROW(make_texture({.joint = 0.9}), Error);
}

TEST(Patterns, AreTheSameEveryTimeAndGoOnWithoutASeam) {
  for (const Pattern pattern : {Pattern::tiles, Pattern::planks, Pattern::brick, Pattern::leaf,
                                Pattern::noise, Pattern::glazing}) {
    const TextureRecipe recipe{.pattern = pattern, .width = 128, .height = 128};
    const Texture texture = make_texture(recipe);
    EXPECT_EQ(texture.texels, make_texture(recipe).texels);
    TextureRecipe other = recipe;
    other.seed = 2;
    EXPECT_NE(texture.texels, make_texture(other).texels) << name_of(pattern);
    // Over the edge texels differ no more than they do inside, on the whole.
    const auto step_across = [&](int column) {
      double sum = 0;
      for (int y = 0; y < 128; ++y) {
        const auto a = static_cast<int>(texture.at(column, y) >> 8 & 255);
        const auto b = static_cast<int>(texture.at((column + 1) % 128, y) >> 8 & 255);
        sum += std::abs(a - b);
      }
      return sum;
    };
    double most = 0;
    for (int x = 0; x < 127; ++x) most = std::max(most, step_across(x));
    EXPECT_LE(step_across(127), 1.5 * most + 128) << name_of(pattern);
  }
}

TEST(Patterns, SpritesAreClearAtTheirRimsAndThereInTheMiddle) {
  for (const Pattern pattern : {Pattern::plant, Pattern::moth, Pattern::glow}) {
    const Texture texture =
        make_texture({.pattern = pattern, .width = 96, .height = 96, .columns = 5, .rows = 6});
    for (int i = 0; i < 96; ++i) {
      EXPECT_EQ(texture.at(i, 0) >> 24, 0u) << name_of(pattern);
      EXPECT_EQ(texture.at(0, i) >> 24, 0u) << name_of(pattern);
      EXPECT_EQ(texture.at(95, i) >> 24, 0u) << name_of(pattern);
    }
    int there = 0;
    for (const std::uint32_t texel : texture.texels) there += texel >> 24 > 128;
    EXPECT_GT(there, 96 * 96 / 10) << name_of(pattern);
  }
}

TEST(Sky, IsSeenWhereThereIsNoCeiling) {
  Scene scene = test::drawn(test::square_room(6));
  Room& room = scene.room();
  room.has_ceiling = false;
  room.sky = Sky{.zenith = {0.1f, 0.2f, 0.7f}, .horizon = {0.9f, 0.5f, 0.2f}};
  const Camera camera{.eye = {4, 4, 1.5}, .heading = 0.3, .pitch = degrees(70)};
  for (const Rays rays : {Rays::pixels}) {
    Budget budget = sampled(TextureSampling::nearest, {41, 41});
    budget.rays = rays;
    const Frame frame = render(compile(scene), camera, budget, test::with_layers(test::everything));
    const Vec3d ray = ray_of(camera, {41, 41}, 20, 20);
    const Color expected = sky_color(*room.sky, room.fog.color, static_cast<float>(ray.z()));
    EXPECT_NEAR(frame.values(Layer::color, 2)(20, 20), expected[2], 1e-4);
    EXPECT_EQ(frame.codes(Layer::ending)(20, 20), static_cast<std::uint32_t>(Ending::escaped));
  }
}

TEST(Sky, APanoramaHasItsMiddleInTheEastAndItsLeftHalfInTheNorth) {
  Scene scene = test::drawn(".....\n.....\n.....");
  Texture around{4, 2, {}};
  // From the left: west to north, north to east, east to south, south to west.
  for (const float level : {0.1f, 0.3f, 0.5f, 0.7f})
    around.texels.push_back(pack_texel({level, 0, 0}));
  for (int i = 0; i < 4; ++i) around.texels.push_back(pack_texel({0, 0, 0.5f}));
  scene.room().has_ceiling = false;
  scene.room().sky = Sky{.panorama = scene.add(around)};
  const World world = compile(scene);
  for (const auto& [heading, level] : {std::pair{135.0, 0.1f}, std::pair{45.0, 0.3f},
                                       std::pair{-45.0, 0.5f}, std::pair{-135.0, 0.7f}}) {
    const Camera camera{.eye = {2.5, 1.5, 1}, .heading = degrees(heading), .pitch = degrees(30)};
    const Frame frame = render(world, camera, sampled(TextureSampling::nearest, {11, 11}));
    EXPECT_NEAR(frame.values(Layer::color, 0)(5, 5), level, 0.01) << heading;
  }
}

}  // namespace
}  // namespace photonlane
