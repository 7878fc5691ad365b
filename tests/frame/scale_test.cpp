// Frames whose colors are made for fewer pixels: what they are where that can be told, and that the
// guide brings edges up to full size.

#include <gmock/gmock.h>

#include <bit>
#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

Scene yard() {
  Scene scene;
  scene.materials = {{.base = {0.5f, 0.45f, 0.4f}}, {.base = {0.8f, 0.2f, 0.1f}}};
  Room& room = scene.room();
  room.light.sun.emplace();
  room.sky.emplace();
  room.add(field::plane({0, 0, 1}, 0).made_of(0));
  for (int i = -2; i <= 2; ++i) {
    room.add(field::place({0.6 * i, 0, 0.7}, field::box({0.12, 0.12, 1.4})).made_of(1));
  }
  return scene;
}
const Camera there = Camera::look_at({0.4, -4, 1.4}, {0, 0, 0.7}, 0.9);

Frame make(const World& world, double scale, Upscale upscale, LayerSet layers,
           std::optional<PixelPart> part = {}) {
  Budget budget{.frame = {160, 100, 1}};
  budget.frame.scale = scale;
  budget.frame.upscale = upscale;
  RenderOptions options;
  options.layers = layers;
  options.part = part;
  return render(world, there, budget, std::move(options));
}

TEST(Scale, OfOneIsTheFrameWithoutIt) {
  const World world = compile(yard());
  const Frame plain = render(world, there, {.frame = {160, 100, 1}}, {.layers = {Layer::color}});
  for (const Upscale upscale : {Upscale::nearest, Upscale::bilinear, Upscale::guided}) {
    const Frame frame = make(world, 1, upscale, {Layer::color});
    EXPECT_EQ(test::hash_of(frame, Layer::color), test::hash_of(plain, Layer::color));
    EXPECT_EQ(frame.tally, plain.tally);
  }
}

TEST(Scale, NearestAndBilinearAreThoseOfTheSmallFrame) {
  const World world = compile(yard());
  const Frame small = render(world, there, {.frame = {80, 50, 1}}, {.layers = {Layer::color}});
  const Frame nearest = make(world, 0.5, Upscale::nearest, {Layer::color});
  const Frame between = make(world, 0.5, Upscale::bilinear, {Layer::color});
  const Frame resampled = resample(small, {160, 100});
  for (int channel = 0; channel < 3; ++channel) {
    for (int y = 0; y < 100; ++y) {
      for (int x = 0; x < 160; ++x) {
        ASSERT_EQ(nearest.values(Layer::color, channel)(x, y),
                  small.values(Layer::color, channel)(x / 2, y / 2));
        ASSERT_NEAR(between.values(Layer::color, channel)(x, y),
                    resampled.values(Layer::color, channel)(x, y), 1e-6);
      }
    }
  }
  EXPECT_EQ(nearest.tally.lanes, small.tally.lanes);
}

TEST(Scale, GuidedIsNearerToTheWholeFrameAndCheaper) {
  const World world = compile(yard());
  const LayerSet layers{Layer::color, Layer::depth};
  const Frame whole = make(world, 1, Upscale::guided, layers);
  double before = 0;
  for (const double scale : {0.75, 0.5, 0.33}) {
    const double bilinear = compare(make(world, scale, Upscale::bilinear, layers), whole).rmse;
    const Frame frame = make(world, scale, Upscale::guided, layers);
    const double guided = compare(frame, whole).rmse;
    EXPECT_LT(guided, 0.9 * bilinear) << scale;
    EXPECT_GT(guided, before) << scale;
    before = guided;
    EXPECT_LT(frame.tally.shadow_lanes, 0.8 * static_cast<double>(whole.tally.shadow_lanes));
    // Other layers are at full size.
    EXPECT_EQ(test::hash_of(frame, Layer::depth), test::hash_of(whole, Layer::depth));
  }
}

TEST(Scale, PartsAndDisplayAreThoseOfTheWhole) {
  const World world = compile(yard());
  const LayerSet layers{Layer::color, Layer::display, Layer::material};
  for (const Upscale upscale : {Upscale::nearest, Upscale::bilinear, Upscale::guided}) {
    const Frame whole = make(world, 0.4, upscale, layers);
    Frame encoded = make(world, 0.4, upscale, {Layer::color});
    encode_display(encoded);
    EXPECT_EQ(test::hash_of(encoded, Layer::display), test::hash_of(whole, Layer::display));
    EXPECT_EQ(test::hash_of(make(world, 0.4, upscale, {Layer::display}), Layer::display),
              test::hash_of(whole, Layer::display));
    for (const PixelPart& at : {PixelPart{0, 0, {1, 1}}, PixelPart{37, 21, {64, 50}},
                                PixelPart{159, 99, {1, 1}}, PixelPart{0, 50, {160, 50}}}) {
      const Frame part = make(world, 0.4, upscale, layers, at);
      ASSERT_EQ(part.size(), at.size);
      for (int y = 0; y < at.size.height; ++y) {
        for (int x = 0; x < at.size.width; ++x) {
          ASSERT_EQ(part.codes(Layer::display)(x, y),
                    whole.codes(Layer::display)(at.x + x, at.y + y));
          ASSERT_EQ(part.codes(Layer::material)(x, y),
                    whole.codes(Layer::material)(at.x + x, at.y + y));
          ASSERT_EQ(std::bit_cast<std::uint32_t>(part.values(Layer::color)(x, y)),
                    std::bit_cast<std::uint32_t>(whole.values(Layer::color)(at.x + x, at.y + y)));
        }
      }
    }
  }
}

/// Counts of all parts of a frame as shares of those of the whole.
void expect_parts_to_add_up(const World& world, const Camera& camera, Size part) {
  for (const double scale : {0.75, 0.5, 0.33}) {
    Budget budget{.frame = {160, 100, 2}};
    budget.frame.scale = scale;
    const auto make = [&](std::optional<PixelPart> of) {
      return render(world, camera, budget, {.layers = {Layer::color}, .part = of});
    };
    const Frame whole = make({});
    double lanes = 0;
    double shadows = 0;
    for (int y = 0; y < 100; y += part.height) {
      for (int x = 0; x < 160; x += part.width) {
        const Frame one = make(PixelPart{x, y, part});
        lanes += static_cast<double>(one.tally.lanes);
        shadows += static_cast<double>(one.tally.shadow_lanes);
      }
    }
    // Each part takes its share of blocks that its neighbors are in as well.
    EXPECT_NEAR(lanes / static_cast<double>(whole.tally.lanes), 1, 0.02) << scale;
    EXPECT_NEAR(shadows / static_cast<double>(whole.tally.shadow_lanes), 1, 0.05) << scale;
  }
}

TEST(Scale, CountsOfPartsAddUpToThoseOfTheWhole) {
  expect_parts_to_add_up(compile(yard()), there, {20, 10});
  // Columns of cells, which are cast once for all rows.
  Scene cells = test::drawn(test::square_room(12));
  cells.room().light.sun.emplace();
  expect_parts_to_add_up(compile(cells), {.eye = {6.5, 6.5, 1.6}}, {20, 100});
}

TEST(Scale, WorksForColumnsPlanesAndTinyFrames) {
  const World cells = compile(test::drawn(test::square_room(6)));
  Scene fractal;
  fractal.plane.emplace();
  const World plane = compile(fractal);
  for (const Size size : {Size{1, 1}, Size{3, 2}, Size{64, 40}}) {
    for (const Upscale upscale : {Upscale::nearest, Upscale::bilinear, Upscale::guided}) {
      Budget budget{.frame = {size.width, size.height, 1}};
      budget.frame.scale = 0.3;
      budget.frame.upscale = upscale;
      const Frame one = render(cells, {.eye = {2.5, 2.5, 1.6}}, budget, {.layers = {Layer::color}});
      EXPECT_EQ(one.size(), size);
      EXPECT_TRUE(std::isfinite(one.values(Layer::color)(size.width - 1, size.height - 1)));
      const Frame two = render(plane, {}, budget, {.layers = {Layer::color, Layer::steps}});
      EXPECT_EQ(two.size(), size);
    }
  }
  Budget scaled{.frame = {8, 8, 1}};
  scaled.frame.scale = 0.5;
  EXPECT_THROW(render(cells, {.eye = {2.5, 2.5, 1.6}}, scaled, {.layers = {Layer::cost}}), Error);
  Budget wrong{.frame = {8, 8, 1}};
  wrong.frame.scale = 0;
  EXPECT_THROW(render(cells, {.eye = {2.5, 2.5, 1.6}}, wrong), Error);
}

}  // namespace
}  // namespace photonlane
