// A part of a frame has the bytes that the whole has there, for every kind of frame.

#include <gmock/gmock.h>

#include <bit>
#include <cstdint>
#include <string>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

/// The first pixel at which a part differs from the whole; empty: none does.
std::string first_difference(const Frame& whole, const Frame& part, const PixelPart& at,
                             int below) {
  for (const Layer layer : part.layers().list()) {
    const LayerInfo& info = layer_info(layer);
    for (int channel = 0; channel < info.channels; ++channel) {
      for (int y = 0; y < at.size.height; ++y) {
        for (int x = 0; x < at.size.width; ++x) {
          const bool same =
              info.codes
                  ? whole.codes(layer)(at.x + x, at.y + y) == part.codes(layer)(x, below + y)
                  : std::bit_cast<std::uint32_t>(
                        whole.values(layer, channel)(at.x + x, at.y + y)) ==
                        std::bit_cast<std::uint32_t>(part.values(layer, channel)(x, below + y));
          if (!same) {
            return std::string(name_of(layer)) + " at " + std::to_string(at.x + x) + ", " +
                   std::to_string(at.y + y);
          }
        }
      }
    }
  }
  return "";
}

class Parts : public ::testing::TestWithParam<const char*> {};

TEST_P(Parts, HaveTheBytesOfTheWhole) {
  io::SceneFile file =
      io::read_scene(std::string(PHOTONLANE_SOURCE) + "/demo/glasshouse-" + GetParam() + ".yaml");
  file.budget.frame.width = 203;
  file.budget.frame.height = 131;
  file.budget.frame.samples = 2;
  const bool quick = test::effort(8) < 8;
  if (quick) {
    file.budget.frame.samples = 1;
    file.budget.light.corners = Corners::none;
  }
  const World world = compile(file.scene);
  RenderOptions options{.layers = measurable_layers(world), .threads = 2};
  options.layers.add(Layer::display);
  const auto make = [&](const RenderOptions& own) {
    return file.views.empty() ? render(world, file.camera, file.budget, own)
                              : render_views(world, file.views, file.budget, own);
  };
  const Frame whole = make(options);
  const PixelPart parts[] = {{0, 0, {203, 131}}, {0, 0, {1, 1}},     {202, 130, {1, 1}},
                             {63, 31, {2, 2}},   {17, 40, {70, 41}}, {127, 15, {2, 30}}};
  for (const PixelPart& part : parts) {
    if (quick && part.size == whole.size()) continue;
    options.part = part;
    const Frame frame = make(options);
    ASSERT_EQ(frame.size(), part.size);
    EXPECT_EQ(frame.part, part);
    EXPECT_EQ(first_difference(whole, frame, part, 0), "") << part.x << "," << part.y;
    EXPECT_LE(frame.tally.lanes, whole.tally.lanes);
  }
  if (!file.views.empty()) return;
  options.part.reset();
  const PixelPart several[] = {{3, 4, {40, 20}}, {150, 100, {40, 20}}, {3, 4, {40, 20}}};
  const Frame stacked = render_parts(world, file.camera, file.budget, several, options);
  ASSERT_EQ(stacked.size(), (Size{40, 60}));
  for (int i = 0; i < 3; ++i) {
    EXPECT_EQ(first_difference(whole, stacked, several[i], 20 * i), "") << i;
  }
}

TEST_P(Parts, LayersAloneAreWhatTheyAreBesideColors) {
  io::SceneFile file =
      io::read_scene(std::string(PHOTONLANE_SOURCE) + "/demo/glasshouse-" + GetParam() + ".yaml");
  file.budget.frame.width = 61;
  file.budget.frame.height = 37;
  file.budget.light.corners = Corners::none;
  const World world = compile(file.scene);
  const Camera camera = file.views.empty() ? file.camera : file.views.front().camera;
  LayerSet data;
  for (const Layer layer : measurable_layers(world).list()) {
    if (layer != Layer::color) data.add(layer);
  }
  for (const int samples : {1, 2}) {
    file.budget.frame.samples = samples;
    const Frame all =
        render(world, camera, file.budget, {.layers = measurable_layers(world), .threads = 1});
    const Frame alone = render(world, camera, file.budget, {.layers = data, .threads = 1});
    for (int y = 0; y < 37; ++y) {
      for (int x = 0; x < 61; ++x) {
        // Lanes that march beside others may end their last step elsewhere, within the tolerance.
        if (data.has(Layer::depth)) {
          const float one = all.values(Layer::depth)(x, y);
          const float other = alone.values(Layer::depth)(x, y);
          ASSERT_TRUE(one == other || std::abs(one - other) < 1e-4f * one)
              << x << ", " << y << ": " << one << " " << other << ", samples " << samples;
        }
        for (const Layer layer : {Layer::material, Layer::ending, Layer::room, Layer::crossings}) {
          if (!data.has(layer)) continue;
          ASSERT_EQ(all.codes(layer)(x, y), alone.codes(layer)(x, y))
              << name_of(layer) << " " << x << ", " << y << ", samples " << samples;
        }
      }
    }
  }
}

INSTANTIATE_TEST_SUITE_P(Demo, Parts,
                         ::testing::Values("evening", "plan", "fountain", "shapes", "wings", "dew",
                                           "window", "flowers", "urn"));

TEST(Part, CountsLittleMoreThanItsPixels) {
  Scene scene;
  scene.materials.push_back({.base = {0.5f, 0.4f, 0.3f}});
  scene.room().add(field::sphere(1));
  const World world = compile(scene);
  const Camera camera = Camera::look_at({0, -4, 0}, {0, 0, 0}, 0.9);
  const Budget budget{.frame = {640, 320, 1}};
  const Frame frame = render(world, camera, budget, {.part = PixelPart{260, 100, {30, 20}}});
  EXPECT_EQ(frame.tally.lanes, 64u * 32u);
  EXPECT_EQ(frame.budget.frame.size(), (Size{640, 320}));
}

TEST(Part, MustBeWithinTheFrame) {
  Scene scene;
  scene.room().add(field::sphere(1));
  const World world = compile(scene);
  const Budget budget{.frame = {64, 48, 1}};
  for (const PixelPart& part :
       {PixelPart{0, 0, {0, 5}}, PixelPart{-1, 0, {5, 5}}, PixelPart{60, 0, {5, 5}},
        PixelPart{0, 48, {1, 1}}, PixelPart{1, 1, {2147483647, 1}}}) {
    try {
      render(world, {}, budget, {.part = part});
      ADD_FAILURE() << part.x << "," << part.y;
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::input);
      EXPECT_THAT(error.what(), HasSubstr("of a frame of 64x48, expected one within it"));
    }
  }
  EXPECT_THROW(render_parts(world, {}, budget, {}, {}), Error);
  const PixelPart two[] = {{0, 0, {4, 4}}, {0, 0, {4, 5}}};
  EXPECT_THROW(render_parts(world, {}, budget, two, {}), Error);
}

}  // namespace
}  // namespace photonlane
