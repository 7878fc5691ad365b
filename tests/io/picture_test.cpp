#include <gmock/gmock.h>

#include <algorithm>
#include <cmath>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/files.hpp"
#include "support/scenes.hpp"

namespace photonlane::io {
namespace {

using test::TemporaryFolder;
using ::testing::HasSubstr;

Frame some_frame(LayerSet layers) {
  const World world = compile(test::drawn("######\n#....#\n#.A...\n#....#\n######"));
  return render(world, Camera{.eye = {1.4, 1.3, 1.6}, .heading = 0.5},
                Budget{.frame = {123, 77, 2}}, test::with_layers(layers));
}

TEST(Png, ComesBackByteForByte) {
  TemporaryFolder folder;
  Picture picture(Size{37, 5});
  for (std::size_t i = 0; i < picture.bytes.size(); ++i) {
    picture.bytes[i] = static_cast<std::uint8_t>(random_bits({.pixel = i}, 0));
  }
  const std::string path = folder.path() + "/a.png";
  write_png(path, picture);
  const Picture again = read_png(path);
  EXPECT_EQ(again.size, picture.size);
  EXPECT_EQ(again.bytes, picture.bytes);
  EXPECT_THROW(read_png(path, 100), Error) << "more pixels than allowed";
  EXPECT_THROW(read_png(folder.path() + "/b.png"), Error);
  EXPECT_THROW(write_png(folder.path() + "/no/such/folder.png", picture), Error);
  EXPECT_EQ(folder.names(), std::set<std::string>{"a.png"}) << "nothing half written is left";
}

TEST(FrameFiles, PngHoldsTheDisplayLayer) {
  TemporaryFolder folder;
  Frame frame = some_frame({Layer::color, Layer::display});
  Frame linear = some_frame({Layer::color});
  write_frame(folder.path() + "/a.png", frame);
  write_frame(folder.path() + "/b.png", linear);
  EXPECT_GT(frame.cost.encode_ms, 0);
  EXPECT_EQ(folder.read("a.png"), folder.read("b.png"));
  const Frame again = read_frame(folder.path() + "/a.png");
  EXPECT_EQ(test::hash_of(again, Layer::display), test::hash_of(frame, Layer::display));
}

TEST(FrameFiles, ExrHoldsEveryLayerBitForBit) {
  TemporaryFolder folder;
  Frame frame = some_frame(LayerSet::measurable());
  write_frame(folder.path() + "/a.exr", frame);
  const Frame again = read_frame(folder.path() + "/a.exr");
  for (std::size_t i = 0; i < layer_count; ++i) {
    const auto layer = static_cast<Layer>(i);
    ASSERT_EQ(again.has(layer), frame.has(layer)) << name_of(layer);
    if (frame.has(layer)) {
      EXPECT_EQ(test::hash_of(again, layer), test::hash_of(frame, layer));
    }
  }
  const Difference difference = compare(again, frame);
  EXPECT_EQ(difference.rmse, 0);
  EXPECT_EQ(difference.share_other, 0);
  // Channels by their conventional names.
  const std::string bytes = folder.read("a.exr");
  for (const char* name : {"R", "G", "B", "Z", "ray_distance", "face", "cell", "steps", "ending"}) {
    EXPECT_THAT(bytes.substr(0, 1000), HasSubstr(name + std::string(1, '\0')));
  }
}

TEST(FrameFiles, RefuseWhatIsNone) {
  TemporaryFolder folder;
  Frame frame = some_frame({Layer::color});
  EXPECT_THROW(write_frame(folder.path() + "/a.jpg", frame), Error);
  EXPECT_THROW(write_frame(folder.path() + "/missing/a.exr", frame), Error);
  Frame shown = some_frame({Layer::display});
  EXPECT_THROW(write_frame(folder.path() + "/a.exr", shown), Error);
  EXPECT_THROW(write_layer(folder.path() + "/a.exr", frame, Layer::color), Error);
  EXPECT_THROW(write_layer(folder.path() + "/a.png", frame, Layer::depth), Error);
  EXPECT_TRUE(folder.names().empty());
  for (const char* name : {"a.png", "a.exr"}) {
    EXPECT_THROW(read_frame(folder.path() + "/missing" + name), Error);
    EXPECT_THROW(read_frame(folder.write(name, "no picture")), Error);
  }
  write_frame(folder.path() + "/cut.exr", frame);
  folder.write("cut.exr", folder.read("cut.exr").substr(0, 2000));
  EXPECT_THROW(read_frame(folder.path() + "/cut.exr"), Error);
}

double lightness(const std::array<std::uint8_t, 3>& color) {
  const double luma = 0.2126 * from_display(color[0] / 255.0f) +
                      0.7152 * from_display(color[1] / 255.0f) +
                      0.0722 * from_display(color[2] / 255.0f);
  return std::cbrt(luma);
}

TEST(Ramp, LightnessRisesEvenly) {
  std::vector<double> levels;
  for (int i = 0; i <= 16; ++i) levels.push_back(lightness(ramp(i / 16.0)));
  const double step = (levels.back() - levels.front()) / 16;
  for (std::size_t i = 1; i < levels.size(); ++i) {
    EXPECT_NEAR(levels[i] - levels[i - 1], step, 0.35 * step) << i;
  }
  EXPECT_EQ(ramp(-1), ramp(0));
  EXPECT_EQ(ramp(2), ramp(1));
}

TEST(LayerPictures, HaveALegendBelowAndThePixelsAbove) {
  const Frame frame = some_frame(LayerSet::measurable());
  for (const Layer layer :
       {Layer::depth, Layer::ray_distance, Layer::face, Layer::cell, Layer::steps, Layer::ending}) {
    const Picture plain = layer_picture(frame, layer, {.legend = false});
    EXPECT_EQ(plain.size, frame.size());
    const Picture full = layer_picture(frame, layer);
    EXPECT_EQ(full.size.width, 360) << "wide enough for its text";
    EXPECT_GT(full.size.height, frame.size().height + 40);
    for (int y = 0; y < plain.size.height; ++y) {
      ASSERT_EQ(std::vector(plain.pixel(0, y), plain.pixel(0, y) + 3 * 123),
                std::vector(full.pixel(0, y), full.pixel(0, y) + 3 * 123));
    }
    // Something bright is written in the bar: the text.
    int bright = 0;
    for (int y = plain.size.height; y < full.size.height; ++y) {
      for (int x = 0; x < full.size.width; ++x) bright += full.pixel(x, y)[1] > 180;
    }
    EXPECT_GT(bright, 100) << name_of(layer);
  }
}

TEST(LayerPictures, FartherIsBrighter) {
  const Frame frame = some_frame(LayerSet::measurable());
  const Picture picture = layer_picture(frame, Layer::depth, {.legend = false});
  std::vector<std::pair<float, double>> seen;
  for (int y = 0; y < frame.size().height; y += 3) {
    for (int x = 0; x < frame.size().width; x += 3) {
      const float depth = frame.values(Layer::depth)(x, y);
      const std::uint8_t* pixel = picture.pixel(x, y);
      if (std::isfinite(depth)) seen.emplace_back(depth, lightness({pixel[0], pixel[1], pixel[2]}));
    }
  }
  std::sort(seen.begin(), seen.end());
  EXPECT_GT(seen.back().second - seen.front().second, 0.3);
  for (std::size_t i = 1; i < seen.size(); ++i) {
    EXPECT_GE(seen[i].second, seen[i - 1].second - 0.004) << seen[i].first;
  }
}

/// A frame whose steps are the given numbers, over and over, `rare` in one pixel of 1,000.
Frame steps_of(const std::vector<std::uint32_t>& numbers, std::uint32_t rare) {
  Frame frame(Size{100, 80}, {Layer::steps, Layer::depth, Layer::face});
  for (int y = 0; y < 80; ++y) {
    for (int x = 0; x < 100; ++x) {
      const std::size_t i = static_cast<std::size_t>(y) * 100 + x;
      frame.codes(Layer::steps)(x, y) = i % 1000 == 999 ? rare : numbers[i % numbers.size()];
      frame.values(Layer::depth)(x, y) = static_cast<float>(x);
    }
  }
  return frame;
}

std::array<std::uint8_t, 3> color_at(const Picture& picture, int x, int y) {
  const std::uint8_t* pixel = picture.pixel(x, y);
  return {pixel[0], pixel[1], pixel[2]};
}

TEST(LayerPictures, AFewExtremesLeaveTheOthersTheirContrast) {
  const Picture picture =
      layer_picture(steps_of({0, 10, 20, 30, 40}, 360), Layer::steps, {.legend = false});
  for (int i = 0; i < 5; ++i) EXPECT_EQ(color_at(picture, i, 0), ramp(i / 4.0)) << i;
  EXPECT_EQ(color_at(picture, 99, 9), ramp(1)) << "the extreme";
  // What is not far out stays in.
  const Picture whole =
      layer_picture(steps_of({0, 10, 20, 30, 40}, 48), Layer::steps, {.legend = false});
  EXPECT_EQ(color_at(whole, 99, 9), ramp(1));
  EXPECT_EQ(color_at(whole, 4, 0), ramp(40.0 / 48));
  // All alike: no range to speak of, and no crash.
  EXPECT_EQ(layer_picture(steps_of({7}, 7), Layer::steps, {.legend = false}).size, (Size{100, 80}));
}

TEST(LayerPictures, CountsOverDecadesLieOnALogarithmicRamp) {
  const Picture picture = layer_picture(steps_of({1, 1, 1, 10, 100, 1000, 10000}, 10000),
                                        Layer::steps, {.legend = false});
  for (int i = 0; i < 5; ++i) EXPECT_EQ(color_at(picture, 2 + i, 0), ramp(i / 4.0)) << i;
}

TEST(LayerPictures, MayBeGivenARange) {
  const Frame frame = steps_of({5}, 5);
  const Picture picture =
      layer_picture(frame, Layer::depth, {.legend = false, .range = ValueRange{20, 60}});
  EXPECT_EQ(color_at(picture, 0, 0), ramp(0));
  EXPECT_EQ(color_at(picture, 20, 0), ramp(0));
  EXPECT_EQ(color_at(picture, 30, 0), ramp(0.25));
  EXPECT_EQ(color_at(picture, 60, 0), ramp(1));
  EXPECT_EQ(color_at(picture, 90, 0), ramp(1));
  EXPECT_THROW(layer_picture(frame, Layer::face, {.range = ValueRange{0, 1}}), Error);
  EXPECT_THROW(layer_picture(frame, Layer::depth, {.range = ValueRange{1, 1}}), Error);
  EXPECT_THROW(layer_picture(frame, Layer::depth, {.range = ValueRange{0, std::nan("")}}), Error);
}

TEST(DifferencePictures, AreDarkWhereNothingDiffers) {
  Frame a = some_frame({Layer::color});
  Frame b = a;
  b.values(Layer::color, 1)(10, 20) = 1;
  const Picture picture = difference_picture(compare(b, a), false);
  EXPECT_TRUE(std::equal(picture.pixel(0, 0), picture.pixel(1, 0), ramp(0).begin()));
  EXPECT_TRUE(std::equal(picture.pixel(10, 20), picture.pixel(11, 20), ramp(1).begin()));
  EXPECT_EQ(difference_picture(compare(a, a), false).size, a.size()) << "no error at all";
}

}  // namespace
}  // namespace photonlane::io
