#include <gtest/gtest.h>

#include <cmath>
#include <set>
#include <vector>

#include "photonlane/base/buffer.hpp"
#include "photonlane/base/color.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "photonlane/base/vector.hpp"
#include "photonlane/base/words.hpp"

namespace photonlane {
namespace {

TEST(Trigonometry, AgreesWithTheLibraryWithinRounding) {
  for (int i = -20000; i <= 20000; ++i) {
    const double angle = i * 0.00137;
    const auto [sine, cosine] = sine_cosine(angle);
    EXPECT_NEAR(sine, std::sin(angle), 3e-16);
    EXPECT_NEAR(cosine, std::cos(angle), 3e-16);
  }
}

TEST(Trigonometry, QuarterTurnsAreExact) {
  for (int turns = -40; turns <= 40; ++turns) {
    const auto [sine, cosine] = sine_cosine(degrees(90.0 * turns));
    EXPECT_EQ(std::abs(sine) + std::abs(cosine), 1) << turns;
    EXPECT_EQ(sine * cosine, 0) << turns;
  }
}

TEST(Random, IsUniformInEveryDimension) {
  for (std::uint32_t dimension = 0; dimension < 4; ++dimension) {
    std::vector<int> bins(64);
    constexpr int count = 64000;
    double sum = 0;
    for (int i = 0; i < count; ++i) {
      const float value =
          random_uniform({.seed = 3, .pixel = static_cast<std::uint64_t>(i)}, dimension);
      ASSERT_GE(value, 0);
      ASSERT_LT(value, 1);
      ++bins[static_cast<std::size_t>(value * 64)];
      sum += value;
    }
    EXPECT_NEAR(sum / count, 0.5, 0.005);
    double chi_square = 0;
    for (const int bin : bins) chi_square += (bin - 1000.0) * (bin - 1000.0) / 1000.0;
    EXPECT_LT(chi_square, 110);  // 63 degrees of freedom: beyond 110 once in 4000 draws
  }
}

TEST(Random, EveryPartOfTheKeyMatters) {
  std::set<std::uint64_t> drawn;
  for (std::uint64_t seed = 0; seed < 4; ++seed) {
    for (std::uint64_t pixel = 0; pixel < 4; ++pixel) {
      for (std::uint32_t sample = 0; sample < 4; ++sample) {
        for (std::uint32_t bounce = 0; bounce < 4; ++bounce) {
          for (std::uint32_t dimension = 0; dimension < 4; ++dimension) {
            drawn.insert(random_bits({seed, pixel, sample, bounce}, dimension));
          }
        }
      }
    }
  }
  EXPECT_EQ(drawn.size(), 1024u);
}

TEST(Random, BelowReachesEveryNumber) {
  std::vector<int> counts(7);
  for (std::uint64_t i = 0; i < 7000; ++i) ++counts[random_below({.seed = 1, .pixel = i}, 0, 7)];
  for (const int count : counts) EXPECT_NEAR(count, 1000, 150);
}

TEST(Color, DisplayValuesGoThereAndBack) {
  for (int i = 0; i <= 1000; ++i) {
    const float linear = i / 1000.0f;
    EXPECT_NEAR(from_display(to_display(linear)), linear, 2e-6);
  }
  EXPECT_EQ(to_display(-1), 0);
  EXPECT_EQ(to_display(7), 1);
  EXPECT_EQ(to_display(std::nanf("")), 0);
}

TEST(Color, LightnessIsTheSameForAllHuesOfAGray) {
  for (int hue = 0; hue < 360; hue += 30) {
    const Color gray = color_from_lightness(0.6f, 0, static_cast<float>(hue));
    EXPECT_NEAR(gray[0], 0.216, 1e-3);
    EXPECT_NEAR(gray[1], 0.216, 1e-3);
    EXPECT_NEAR(gray[2], 0.216, 1e-3);
  }
}

TEST(Words, SuggestsTheNearestAndOnlyNearOnes) {
  const std::vector<std::string_view> words{"cells.method", "cells.steps", "frame.width", "number"};
  EXPECT_EQ(nearest_word("cells.steps", words), "cells.steps");
  EXPECT_EQ(nearest_word("cells.setps", words), "cells.steps");
  EXPECT_EQ(nearest_word("nubmer", words), "number");
  EXPECT_EQ(nearest_word("field.steps", words), "cells.steps");
  EXPECT_EQ(nearest_word("zzz", words), std::nullopt);
  EXPECT_EQ(nearest_word(std::string(5000, 'x'), words), std::nullopt);
  EXPECT_EQ(suggestion("nubmer", words), "; did you mean number?");
}

TEST(Errors, SayTheirPlaceInOneLine) {
  const Error plain(ErrorKind::input, "message");
  EXPECT_STREQ(plain.what(), "message");
  EXPECT_STREQ(plain.at({"a.yaml"}).what(), "a.yaml: message");
  EXPECT_STREQ(plain.at({"a.yaml", 3}).what(), "a.yaml:3: message");
  EXPECT_STREQ(plain.at({"a.yaml", 3, 7}).what(), "a.yaml:3:7: message");
  EXPECT_EQ(plain.at({"a.yaml", 3, 7}).message(), "message");
}

TEST(Buffers, KeepTheirMemoryAndCopyTheirBytes) {
  Buffer buffer;
  buffer.resize(1000);
  EXPECT_EQ(reinterpret_cast<std::uintptr_t>(buffer.data<char>()) % 64, 0u);
  buffer.data<char>()[999] = 'x';
  const Buffer copy = buffer;
  buffer.data<char>()[999] = 'y';
  EXPECT_EQ(copy.data<char>()[999], 'x');
  const char* before = buffer.data<char>();
  buffer.resize(10);
  buffer.resize(1000);
  EXPECT_EQ(buffer.data<char>(), before);
  buffer.resize(std::size_t{5} << 20);
  buffer.data<char>()[(std::size_t{5} << 20) - 1] = 'z';
  EXPECT_THROW(buffer.resize(std::size_t{1} << 60), Error);
}

}  // namespace
}  // namespace photonlane
