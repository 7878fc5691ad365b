#include "photonlane/measure/difference.hpp"

#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/measure/statistics.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

/// A frame whose color makes the display value given for each pixel, the same in all channels.
template <class Value>
Frame gray(Size size, const Value& value) {
  Frame frame(size, {Layer::color});
  for (int channel = 0; channel < 3; ++channel) {
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) {
        frame.values(Layer::color, channel)(x, y) = from_display(value(x, y));
      }
    }
  }
  return frame;
}

TEST(Compare, AConstantOffsetIsTheRmse) {
  const Frame a = gray({40, 30}, [](int, int) { return 0.5f; });
  const Frame b = gray({40, 30}, [](int, int) { return 0.6f; });
  const Difference difference = compare(a, b);
  EXPECT_NEAR(difference.rmse, 0.1, 1e-6);
  EXPECT_NEAR(difference.psnr.value(), 20, 1e-4);
  EXPECT_NEAR(difference.largest, 0.1, 1e-6);
  // Without any structure only the means differ: the first factor of the similarity.
  EXPECT_NEAR(difference.ssim, (2 * 0.5 * 0.6 + 1e-4) / (0.25 + 0.36 + 1e-4), 1e-6);
  EXPECT_FALSE(difference.share_other.has_value());
  EXPECT_FALSE(difference.depth_median.has_value());
}

TEST(Compare, EqualFramesHaveNoError) {
  const Frame a = gray({17, 9}, [](int x, int y) { return 0.01f * static_cast<float>(x + 3 * y); });
  const Difference difference = compare(a, a);
  EXPECT_EQ(difference.rmse, 0);
  EXPECT_EQ(difference.ssim, 1);
  EXPECT_FALSE(difference.psnr.has_value());
}

TEST(Compare, NamesTheWorstPixel) {
  const Frame a = gray({23, 19}, [](int, int) { return 0.2f; });
  const Frame b = gray({23, 19}, [](int x, int y) { return x == 7 && y == 13 ? 0.9f : 0.2f; });
  const Difference difference = compare(a, b);
  EXPECT_EQ(difference.largest_x, 7);
  EXPECT_EQ(difference.largest_y, 13);
  EXPECT_NEAR(difference.largest, 0.7, 1e-6);
  EXPECT_NEAR(difference.rmse, 0.7 / std::sqrt(23 * 19), 1e-6);
  EXPECT_NEAR(difference.errors[13 * 23 + 7], 0.7, 1e-6);
}

TEST(Compare, StructuralSimilarityEqualsThePlainFormula) {
  // The window's sums taken pixel by pixel over the two-dimensional neighborhood.
  const Size size{21, 14};
  const auto noise = [](int x, int y, std::uint64_t seed) {
    return 0.2f + 0.6f * random_uniform(
                             {.seed = seed, .pixel = static_cast<std::uint64_t>(y * 100 + x)}, 0);
  };
  const auto value_a = [&](int x, int y) { return noise(x, y, 1); };
  const auto value_b = [&](int x, int y) { return 0.7f * noise(x, y, 1) + 0.3f * noise(x, y, 2); };
  double sum = 0;
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      double weight = 0, a1 = 0, b1 = 0, a2 = 0, b2 = 0, ab = 0;
      for (int dy = -5; dy <= 5; ++dy) {
        for (int dx = -5; dx <= 5; ++dx) {
          if (x + dx < 0 || y + dy < 0 || x + dx >= size.width || y + dy >= size.height) continue;
          const double w = std::exp(-(dx * dx + dy * dy) / (2 * 1.5 * 1.5));
          const double a = value_a(x + dx, y + dy);
          const double b = value_b(x + dx, y + dy);
          weight += w;
          a1 += w * a;
          b1 += w * b;
          a2 += w * a * a;
          b2 += w * b * b;
          ab += w * a * b;
        }
      }
      a1 /= weight;
      b1 /= weight;
      const double variance_a = a2 / weight - a1 * a1;
      const double variance_b = b2 / weight - b1 * b1;
      const double covariance = ab / weight - a1 * b1;
      sum += (2 * a1 * b1 + 1e-4) * (2 * covariance + 9e-4) /
             ((a1 * a1 + b1 * b1 + 1e-4) * (variance_a + variance_b + 9e-4));
    }
  }
  const Difference difference = compare(gray(size, value_a), gray(size, value_b));
  EXPECT_NEAR(difference.ssim, sum / (size.width * size.height), 1e-5);
  EXPECT_LT(difference.ssim, 0.95);
}

TEST(Compare, CountsPixelsThatMetSomethingElseAndDepthErrors) {
  const LayerSet layers{Layer::color, Layer::depth, Layer::cell, Layer::face};
  Frame a(Size{10, 10}, layers);
  for (int y = 0; y < 10; ++y) {
    for (int x = 0; x < 10; ++x) {
      for (int channel = 0; channel < 3; ++channel) a.values(Layer::color, channel)(x, y) = 0.5f;
      a.values(Layer::depth)(x, y) = 4;
      a.codes(Layer::cell)(x, y) = 7;
      a.codes(Layer::face)(x, y) = 1;
    }
  }
  Frame b = a;
  for (int x = 0; x < 3; ++x) b.codes(Layer::cell)(x, 0) = 8;
  b.codes(Layer::face)(2, 0) = 2;
  b.codes(Layer::face)(9, 9) = 2;
  for (int i = 0; i < 60; ++i) b.values(Layer::depth)(i % 10, i / 10) = 4.25f;
  b.values(Layer::depth)(9, 9) = std::numeric_limits<float>::infinity();
  b.values(Layer::depth)(8, 9) = 10;
  const Difference difference = compare(b, a);
  EXPECT_DOUBLE_EQ(difference.share_other.value(), 0.04);
  EXPECT_DOUBLE_EQ(difference.depth_median.value(), 0.25);
  EXPECT_NEAR(difference.depth_p99.value(), 0.25 + 0.02 * 5.75, 1e-9);
}

TEST(Compare, TakesOneSizeOnly) {
  EXPECT_THROW(compare(gray({4, 4}, [](int, int) { return 0.f; }),
                       gray({4, 5}, [](int, int) { return 0.f; })),
               Error);
}

TEST(Limits, AreReadAndHeld) {
  const Frame a = gray({8, 8}, [](int, int) { return 0.5f; });
  const Frame b = gray({8, 8}, [](int, int) { return 0.6f; });
  const Difference difference = compare(a, b);
  EXPECT_TRUE(holds(parse_limit("rmse=0.11"), difference));
  EXPECT_FALSE(holds(parse_limit("rmse=0.09"), difference));
  EXPECT_TRUE(holds(parse_limit("psnr=19"), difference));
  EXPECT_FALSE(holds(parse_limit("psnr=21"), difference));
  EXPECT_FALSE(holds(parse_limit("ssim=0.999"), difference));
  EXPECT_TRUE(holds(parse_limit("psnr=99"), compare(a, a)));
  EXPECT_THROW(holds(parse_limit("depth_p99=1"), difference), Error);
  for (const char* bad : {"rmse", "rmse=", "rmse=x", "rmse=0.1x", "rmse=nan", "=1", ""}) {
    EXPECT_THROW(parse_limit(bad), Error) << bad;
  }
  try {
    parse_limit("rsme=1");
    FAIL();
  } catch (const Error& error) {
    EXPECT_THAT(error.what(), HasSubstr("did you mean rmse?"));
  }
}

TEST(Resample, KeepsFlatPicturesAndInterpolatesSlopes) {
  const Frame slope = gray({8, 4}, [](int x, int) { return 0.5f + 0 * static_cast<float>(x); });
  const Frame flat = resample(slope, {20, 30});
  EXPECT_EQ(flat.size(), (Size{20, 30}));
  EXPECT_NEAR(flat.values(Layer::color, 1)(13, 7), from_display(0.5f), 1e-6);
  Frame ramp({4, 1}, {Layer::color, Layer::cell});
  for (int x = 0; x < 4; ++x) {
    for (int channel = 0; channel < 3; ++channel) {
      ramp.values(Layer::color, channel)(x, 0) = static_cast<float>(x);
    }
    ramp.codes(Layer::cell)(x, 0) = static_cast<std::uint32_t>(10 * x);
  }
  const Frame wide = resample(ramp, {8, 1});
  const float expected[] = {0, 0.25f, 0.75f, 1.25f, 1.75f, 2.25f, 2.75f, 3};
  for (int x = 0; x < 8; ++x) {
    EXPECT_FLOAT_EQ(wide.values(Layer::color, 0)(x, 0), expected[x]);
    EXPECT_EQ(wide.codes(Layer::cell)(x, 0), static_cast<std::uint32_t>(10 * (x / 2)));
  }
}

TEST(Statistics, MedianAndQuartiles) {
  EXPECT_EQ(quantile({}, 0.5), 0);
  EXPECT_EQ(quantile({3}, 0.99), 3);
  EXPECT_EQ(quantile({4, 1, 3, 2}, 0.5), 2.5);
  EXPECT_EQ(quantile({4, 1, 3, 2}, 0), 1);
  EXPECT_EQ(quantile({4, 1, 3, 2}, 1), 4);
  EXPECT_EQ(quantile({5, 1, 3, 2, 4}, 0.25), 2);
  const Statistics one = summarize({1, 2, 3, 4, 100});
  EXPECT_EQ(one.median, 3);
  EXPECT_EQ(one.spread, 1);
}

}  // namespace
}  // namespace photonlane
