#include "support/furnished.hpp"
#include "support/effort.hpp"

#include <gmock/gmock.h>

#include <cmath>

#include "support/targets.hpp"

namespace photonlane {
namespace {

using test::everything;
using test::hash_of;
using test::with_layers;
using ::testing::HasSubstr;

Budget budget_of(Rays rays, Size size = {240, 150}) {
  Budget budget;
  budget.frame = {size.width, size.height, 1};
  budget.rays = rays;
  return budget;
}

TEST(Furnished, ColumnsAndPixelsSeeTheSame) {
  const World world = compile(test::furnished_scene());
  for (const double heading : {-5.0, 25.0, 200.0}) {
    Camera camera = test::furnished_eye();
    if (heading > 100) camera.eye.x() = 9.5;
    camera.heading = degrees(heading);
    for (const NumberType number : {NumberType::float32, NumberType::float64}) {
      Budget budget = budget_of(Rays::columns);
      budget.number = number;
      const Frame columns = render(world, camera, budget, with_layers(everything));
      budget.rays = Rays::pixels;
      const Frame pixels = render(world, camera, budget, with_layers(everything));
      int other = 0;
      double worst = 0;
      for (int y = 0; y < 150; ++y) {
        for (int x = 0; x < 240; ++x) {
          const bool same = columns.codes(Layer::cell)(x, y) == pixels.codes(Layer::cell)(x, y) &&
                            columns.codes(Layer::face)(x, y) == pixels.codes(Layer::face)(x, y);
          other += !same;
          const double a = columns.values(Layer::depth)(x, y);
          if (same && std::isfinite(a)) {
            worst = std::max(worst, std::abs(a - pixels.values(Layer::depth)(x, y)) / a);
          }
        }
      }
      EXPECT_LT(other, 240 * 150 / 400)
          << "only at silhouettes: heading " << heading << ", " << name_of(number);
      EXPECT_LT(worst, 1e-4);
      EXPECT_LT(compare(pixels, columns).rmse, 0.01) << heading;
    }
  }
}

TEST(Furnished, TheSameBytesForEveryVectorWidthAndThreadCount) {
  const World world = compile(test::furnished_scene());
  for (const Rays rays : {Rays::columns, Rays::pixels}) {
    Budget budget = budget_of(rays, {97, 61});
    budget.frame.samples = 2;
    budget.light.corners = Corners::sampled;
    budget.light.corner_samples = 4;
    std::optional<std::uint64_t> expected;
    test::for_each_target([&](const char* target) {
      for (const int threads : {1, 2}) {
        const Frame frame = render(world, test::furnished_eye(), budget,
                                   with_layers({Layer::color, Layer::depth}, threads));
        const std::uint64_t hash = hash_of(frame, Layer::color) ^ hash_of(frame, Layer::depth);
        if (!expected) expected = hash;
        EXPECT_EQ(hash, *expected) << target;
      }
    });
  }
}

TEST(Furnished, ShadingStaysBetweenBlackAndWhite) {
  Scene scene = test::furnished_scene();
  for (int i = 0; i < 12; ++i) {
    scene.room().light.lamps.push_back(
        {.place = {2.0 + i, 4.5, 2}, .color = {1, 1, 1}, .range = 9});
  }
  scene.room().light.ambient = {1, 1, 1};
  const World world = compile(scene);
  for (const LampShadows shadows : {LampShadows::none, LampShadows::traced}) {
    Budget budget = budget_of(Rays::pixels);
    budget.light.lamp_shadows = shadows;
    const Frame frame = render(world, test::furnished_eye(), budget);
    float least = 1;
    float most = 0;
    for (int channel = 0; channel < 3; ++channel) {
      for (int y = 0; y < 150; ++y) {
        for (const float value : frame.values(Layer::color, channel).row(y)) {
          least = std::min(least, value);
          most = std::max(most, value);
        }
      }
    }
    EXPECT_GE(least, 0);
    EXPECT_LE(most, 1.0001f);
    EXPECT_GT(most, 0.5f);
  }
}

TEST(Furnished, EditedWorldsShowWhatNewOnesDo) {
  Scene scene = test::furnished_scene();
  World world = compile(scene);
  CellMap& map = scene.room().cell_map();
  const CellEdit edits[] = {open_door(map, 7, 8, 0.9),
                            open_door(map, 7, 6, 0.05),
                            {4, 4, wall_of(1), CellForm{.height = 0.4}},
                            {2, 7, empty_cell}};
  world = edit(std::move(world), edits);
  for (const CellEdit& one : edits) {
    map.at(one.x, one.y) = one.cell;
    map.set_form(one.x, one.y, one.form);
  }
  for (const Rays rays : {Rays::columns, Rays::pixels}) {
    const auto picture = [&](const World& of) {
      return hash_of(render(of, test::furnished_eye(), budget_of(rays)), Layer::color);
    };
    EXPECT_EQ(picture(world), picture(compile(scene)));
  }
  const CellEdit wrong{4, 4, wall_of(1), CellForm{.top = 99}};
  EXPECT_THROW(edit(world, {&wrong, 1}), Error);
}

/// An empty hall, colors as they are: nothing but what a test puts there.
Scene bare_hall() {
  Scene scene = test::drawn(test::square_room(20));
  scene.room().fog = {.start = 5000, .end = 6000};
  scene.room().cell_map().face_shade = 1;
  return scene;
}

TEST(Passes, DimAndTintAsManyTimesAsTheyAreLookedThrough) {
  Scene scene = bare_hall();
  const Color base(0.2f, 0.5f, 0.1f);
  const Color tint(0.5f, 1, 0.8f);
  const Cell glass = scene.wall({.base = base, .opacity = 0.25, .tint = tint});
  CellMap& map = scene.room().cell_map();
  for (const int x : {8, 11, 14}) {
    for (int y = 1; y < 21; ++y) map.at(x, y) = glass;
  }
  const Camera camera{.eye = {2.5, 10.5, 1.5}, .heading = 0, .field_of_view = degrees(30)};
  for (const Rays rays : {Rays::columns, Rays::pixels}) {
    Budget budget = budget_of(rays, {21, 21});
    const World world = compile(scene);
    const Frame frame = render(world, camera, budget, with_layers(everything));
    for (int channel = 0; channel < 3; ++channel) {
      double expected = scene.materials[0].base[channel];
      for (int i = 0; i < 3; ++i) {
        expected = 0.25 * base[channel] + 0.75 * tint[channel] * expected;
      }
      EXPECT_NEAR(frame.values(Layer::color, channel)(10, 10), expected, 1e-4);
    }
    EXPECT_NEAR(frame.values(Layer::depth)(10, 10), 21 - 2.5, 1e-3)
        << "the first that is not clear";
    // Two passes are not enough: what is left of the light is spent.
    budget.passes.limit = 2;
    const Frame spent = render(world, camera, budget, with_layers(everything));
    EXPECT_EQ(spent.codes(Layer::ending)(10, 10), static_cast<std::uint32_t>(Ending::spent));
    double left = 1;
    double sum = 0;
    for (int i = 0; i < 3; ++i) {
      sum += left * 0.25 * base[2];
      left *= 0.75 * tint[2];
    }
    EXPECT_NEAR(spent.values(Layer::color, 2)(10, 10), sum + left * spent_color[2], 1e-4);
    EXPECT_EQ(spent.tally.spent > 0, rays == Rays::pixels) << "columns count columns";
    budget.passes.limit = 3;
    EXPECT_EQ(render(world, camera, budget, with_layers(everything)).tally.spent, 0u);
  }
}

TEST(SoftBodies, HideAsMuchAsALaneRunsInsideThem) {
  Scene scene = bare_hall();
  const double density = 0.3;
  const Cell mist = scene.wall({.base = {1, 1, 1}, .density = density});
  CellMap& map = scene.room().cell_map();
  for (int x = 8; x < 12; ++x) {
    for (int y = 1; y < 21; ++y) map.at(x, y) = mist;
  }
  for (const Rays rays : {Rays::columns, Rays::pixels}) {
    for (const double eye_x : {2.5, 9.0}) {
      const Camera camera{.eye = {eye_x, 10.5, 1.5}, .field_of_view = degrees(30)};
      const Frame frame = render(compile(scene), camera, budget_of(rays, {21, 21}));
      const double inside = 12 - std::max(8.0, eye_x);
      const double hidden = 1 - std::exp(-density * inside);
      const double wall = scene.materials[0].base[0];
      EXPECT_NEAR(frame.values(Layer::color, 0)(10, 10), hidden + (1 - hidden) * wall, 2e-3)
          << eye_x;
    }
  }
}

TEST(Sprites, TheNearerCoverTheFartherWhateverTheirOrder) {
  Scene scene = bare_hall();
  scene.wall({.base = {1, 0, 0}});
  scene.wall({.base = {0, 1, 0}});
  for (const bool swapped : {false, true}) {
    std::vector<Sprite>& sprites = scene.room().sprites;
    sprites = {{.foot = {8, 10.5, 0}, .width = 2, .height = 2, .material = 2},
               {.foot = {9, 10.7, 0}, .width = 2, .height = 2.5, .material = 3}};
    if (swapped) std::swap(sprites[0], sprites[1]);
    const Camera camera{.eye = {2.5, 10.5, 1.5}, .field_of_view = degrees(40)};
    for (const Rays rays : {Rays::columns, Rays::pixels}) {
      const Frame frame =
          render(compile(scene), camera, budget_of(rays, {101, 101}), with_layers(everything));
      EXPECT_EQ(frame.values(Layer::color, 0)(50, 50), 1);
      EXPECT_EQ(frame.codes(Layer::face)(50, 50), static_cast<std::uint32_t>(Face::panel));
      EXPECT_NEAR(frame.values(Layer::depth)(50, 50), 5.5, 1e-4);
      // Above the nearer one's upper edge the farther is seen: 2 m at 5.5 m, 2.5 m at 6.5 m.
      const Viewing view = viewing(camera, {101, 101});
      const int above_near = static_cast<int>(50.5 - view.focal * 0.5 / 5.5);
      EXPECT_EQ(frame.values(Layer::color, 1)(50, above_near - 1), 1);
      EXPECT_EQ(frame.values(Layer::color, 0)(50, above_near + 1), 1);
      const int above_far = static_cast<int>(50.5 - view.focal * 1.0 / 6.5);
      EXPECT_EQ(frame.codes(Layer::face)(50, above_far - 1),
                static_cast<std::uint32_t>(Face::ceiling));
    }
  }
}

TEST(Sprites, SeeThroughOnesBlendFromTheBackToTheFront) {
  Scene scene = bare_hall();
  std::vector<Color> colors;
  for (int i = 0; i < 8; ++i) {
    colors.push_back(color_from_lightness(0.7f, 0.12f, 45.0f * i));
    scene.wall({.base = colors.back(), .opacity = 0.3 + 0.05 * i});
  }
  // In no order, some at the same place.
  const double places[] = {9, 6, 12, 6, 15, 8, 8, 11};
  for (std::uint32_t i = 0; i < 8; ++i) {
    scene.room().sprites.push_back(
        {.foot = {places[i], 10.5, 0}, .width = 3, .height = 3, .material = 2 + i});
  }
  const Camera camera{.eye = {2.5, 10.5, 1.5}, .field_of_view = degrees(20)};
  for (const Rays rays : {Rays::columns, Rays::pixels}) {
    const Frame frame = render(compile(scene), camera, budget_of(rays, {11, 11}));
    // Of those at one place the first in the scene is in front.
    std::vector<std::size_t> order{0, 1, 2, 3, 4, 5, 6, 7};
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return places[a] < places[b]; });
    Color expected = scene.materials[0].base;
    for (auto i = order.rbegin(); i != order.rend(); ++i) {
      const float opacity = 0.3f + 0.05f * static_cast<float>(*i);
      expected = colors[*i] * opacity + expected * (1 - opacity);
    }
    for (int channel = 0; channel < 3; ++channel) {
      EXPECT_NEAR(frame.values(Layer::color, channel)(5, 5), expected[channel], 2e-4);
    }
  }
}

TEST(Sprites, AreHiddenByWallsAndLowWallsAndNeverSeenBehindTheEye) {
  Scene scene = bare_hall();
  scene.wall({.base = {1, 0, 0}});
  CellMap& map = scene.room().cell_map();
  map.at(6, 10) = wall_of(1);
  map.set_form(6, 10, CellForm{.height = 1});
  scene.room().sprites = {{.foot = {8, 10.5, 0}, .width = 1, .height = 2, .material = 2},
                          {.foot = {1.2, 10.5, 0}, .width = 2, .height = 3, .material = 2}};
  const Camera camera{.eye = {2.5, 10.5, 1.2}, .field_of_view = degrees(40)};
  for (const Rays rays : {Rays::columns, Rays::pixels}) {
    const Frame frame =
        render(compile(scene), camera, budget_of(rays, {101, 101}), with_layers(everything));
    int red = 0;
    for (int y = 0; y < 101; ++y) {
      for (int x = 0; x < 101; ++x) {
        const bool seen = frame.values(Layer::color, 0)(x, y) == 1;
        red += seen;
        const double height = 1.2 + viewing(camera, {101, 101}).v(y + 0.5) * 5.5;
        EXPECT_TRUE(!seen || (height > 0.6 && height < 2.01)) << y;
      }
    }
    EXPECT_GT(red, 100) << "its upper part";
    // From the low wall's upper edge, seen at 1.2 m, the line of sight meets it at this height.
    EXPECT_EQ(frame.values(Layer::color, 0)(50, 45), 1);
    EXPECT_NE(frame.values(Layer::color, 0)(50, 62), 1);
  }
}

TEST(Sprites, FixedOnesReadRightFromBothSidesAndFacingOnesTurn) {
  Scene scene = bare_hall();
  Texture halves{2, 1, {pack_texel({1, 0, 0}), pack_texel({0, 1, 0})}};
  scene.wall({.base = {1, 1, 1}, .texture = scene.add(halves)});
  for (const bool fixed : {true, false}) {
    scene.room().sprites = {{.foot = {10.5, 10.5, 0},
                             .width = 2,
                             .height = 3,
                             .fixed = fixed,
                             .heading = pi,
                             .material = 2}};
    const World world = compile(scene);
    for (const auto& [x, heading] : {std::pair{5.0, 0.0}, std::pair{16.0, 180.0}}) {
      const Camera camera{.eye = {x, 10.5, 1.5}, .heading = degrees(heading)};
      Budget budget = budget_of(Rays::pixels, {61, 41});
      budget.texture.sampling = TextureSampling::nearest;
      const Frame frame = render(world, camera, budget);
      EXPECT_EQ(frame.values(Layer::color, 0)(28, 20), 1) << x;
      EXPECT_EQ(frame.values(Layer::color, 1)(32, 20), 1) << x;
    }
    // From the side a fixed one is a line, one that faces the eye is not.
    const Camera aside{.eye = {10.5, 4, 1.5}, .heading = degrees(90)};
    Budget budget = budget_of(Rays::pixels, {61, 41});
    budget.texture.sampling = TextureSampling::nearest;
    const Frame frame = render(world, aside, budget);
    EXPECT_EQ(frame.values(Layer::color, 0)(27, 20) == 1, !fixed);
  }
}

TEST(Sprites, HundredsOfThemLookLikeTheOnesThatAreNear) {
  Scene scene = bare_hall();
  scene.wall({.base = {0.9f, 0.1f, 0.1f}});
  for (int i = 0; i < 400; ++i) {
    const RandomKey key{.pixel = static_cast<std::uint64_t>(i)};
    scene.room().sprites.push_back(
        {.foot = {1.5 + 19 * random_uniform(key, 0), 1.5 + 19 * random_uniform(key, 1),
                  2 * random_uniform(key, 2)},
         .width = 0.1 + 0.4 * random_uniform(key, 3),
         .height = 0.1 + 0.4 * random_uniform(key, 4),
         .material = 2});
  }
  const World world = compile(scene);
  const Size size{test::effort(120), test::effort(80)};
  const Camera camera{.eye = {10.5, 10.5, 1.5}, .heading = 1};
  const Frame frame = render(world, camera, budget_of(Rays::pixels, size), with_layers(everything));
  const Viewing view = viewing(camera, size);
  int wrong = 0;
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      // Every sprite by itself, in double.
      const Vec3d ray = view.ray(view.u(x + 0.5), view.v(y + 0.5));
      double nearest = 1e30;
      for (const Sprite& sprite : scene.room().sprites) {
        const Vec2d foot = sprite.foot.head<2>() - camera.eye.head<2>();
        const Vec2d normal = -foot.normalized();
        const double t = foot.dot(normal) / ray.head<2>().dot(normal);
        if (!(t > 0)) continue;
        const double aside = (ray.head<2>() * t - foot).dot(Vec2d(-normal.y(), normal.x()));
        const double height = camera.eye.z() + ray.z() * t - sprite.foot.z();
        if (std::abs(aside) < sprite.width / 2 && height > 0 && height < sprite.height) {
          nearest = std::min(nearest, t);
        }
      }
      const bool panel = frame.codes(Layer::face)(x, y) == static_cast<std::uint32_t>(Face::panel);
      const double seen = frame.values(Layer::ray_distance)(x, y);
      wrong += panel ? std::abs(seen - nearest) > 1e-3 : nearest < seen;
    }
  }
  EXPECT_LT(wrong, 20) << "only at their edges";
}

TEST(Views, EachFillsItsPartAsIfItWereAlone) {
  const World world = compile(test::furnished_scene());
  View left{test::furnished_eye()};
  left.width = 0.5;
  View right{test::furnished_eye()};
  right.camera.eye.x() += 7;
  right.left = 0.5;
  right.width = 0.5;
  right.height = 0.5;
  const View views[] = {left, right};
  const Frame frame =
      render_views(world, views, budget_of(Rays::automatic, {101, 60}), with_layers(everything));
  for (const View& view : views) {
    const PixelPart part = pixel_part(view, {101, 60});
    const Frame alone =
        render(world, view.camera, budget_of(Rays::automatic, part.size), with_layers(everything));
    for (int y = 0; y < part.size.height; ++y) {
      for (int x = 0; x < part.size.width; ++x) {
        ASSERT_EQ(frame.values(Layer::color, 1)(part.x + x, part.y + y),
                  alone.values(Layer::color, 1)(x, y));
        ASSERT_EQ(frame.codes(Layer::cell)(part.x + x, part.y + y), alone.codes(Layer::cell)(x, y));
      }
    }
  }
  EXPECT_EQ(frame.codes(Layer::cell)(90, 50), no_item) << "no view is there";
  EXPECT_EQ(frame.values(Layer::color, 0)(90, 50), 0);
  View wide = left;
  wide.left = 0.7;
  EXPECT_THROW(render_views(world, {&wide, 1}, Budget{}), Error);
  EXPECT_THROW(render_views(world, {}, Budget{}), Error);
}

}  // namespace
}  // namespace photonlane
