// Cameras found from pairs of pixels and places: exactly where pairs are exact, and as well as
// least squares can where they are not.

#include "photonlane/plates/camera_match.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

constexpr Size size{1920, 1080};

/// A seeded camera, and places it shows, with pixels off by a normal spread.
struct Drawn {
  Camera camera;
  std::vector<PlateMark> pairs;
};

Drawn draw(std::uint64_t seed, std::size_t count, double spread, bool level = false,
           double far_out = 0) {
  std::uint64_t at = 0;
  const auto random = [&](double low, double high) {
    return low + (high - low) * random_uniform({.seed = seed}, at++);
  };
  const auto normal = [&] {
    return std::sqrt(-2 * std::log(1 - random(0, 1))) * std::cos(2 * pi * random(0, 1));
  };
  Drawn drawn;
  drawn.camera = {.eye = {far_out + random(-3, 3), random(-3, 3), random(1, 4)},
                  .heading = random(-3, 3),
                  .pitch = random(-0.9, level ? -0.3 : 0.5),
                  .roll = random(-0.4, 0.4),
                  .field_of_view = random(0.4, 1.4)};
  const Viewing seen = viewing(drawn.camera, size);
  while (drawn.pairs.size() < count) {
    const double x = random(0, size.width);
    const double y = random(0, size.height);
    const Vec3d way = seen.forward + seen.u(x) * seen.right + seen.v(y) * seen.up;
    double distance = random(2, 12);
    if (level) {
      distance = -drawn.camera.eye.z() / way.z();
      if (!(distance > 0) || distance > 60) continue;
    }
    const double off_x = spread * normal();
    const double off_y = spread * normal();
    drawn.pairs.push_back({x + off_x, y + off_y, drawn.camera.eye + distance * way});
  }
  return drawn;
}

double turn_between(const Camera& a, const Camera& b) {
  const Viewing one = viewing(a, size);
  const Viewing two = viewing(b, size);
  // Of small turns, by how far the axes' tips are apart.
  return std::sqrt(((one.forward - two.forward).squaredNorm() +
                    (one.right - two.right).squaredNorm() + (one.up - two.up).squaredNorm()) /
                   2);
}

TEST(CameraMatch, OfExactPairsIsTheCamera) {
  for (std::uint64_t seed = 1; seed <= static_cast<std::uint64_t>(effort(20)); ++seed) {
    for (const bool level : {false, true}) {
      for (const double far_out : {0.0, 1e5}) {
        const Drawn drawn = draw(seed, level ? 12 : 8, 0, level, far_out);
        const CameraMatch match = match_camera(drawn.pairs, size);
        EXPECT_LT((match.camera.eye - drawn.camera.eye).norm(), far_out > 0 ? 1e-4 : 1e-6)
            << seed << " " << level;
        EXPECT_LT(turn_between(match.camera, drawn.camera), 1e-6) << seed << " " << level;
        EXPECT_NEAR(match.camera.field_of_view, drawn.camera.field_of_view, 1e-6);
        EXPECT_LT(match.rms, 1e-3);
        EXPECT_TRUE(match.outliers.empty());
      }
    }
  }
}

TEST(CameraMatch, FindsShiftsAndAspectsWhereThatIsAskedFor) {
  for (std::uint64_t seed = 1; seed <= static_cast<std::uint64_t>(effort(12)); ++seed) {
    Drawn drawn = draw(seed, 14, 0);
    Camera camera = drawn.camera;
    camera.shift_x = 0.1;
    camera.shift_y = -0.2;
    camera.pixel_aspect = 1.2;
    const Viewing seen = viewing(camera, size);
    for (PlateMark& pair : drawn.pairs) {
      const Vec3d off = pair.place - camera.eye;
      const double z = off.dot(seen.forward);
      pair.x = seen.center_x + seen.focal * off.dot(seen.right) / z;
      pair.y = seen.center_y - seen.focal_y * off.dot(seen.up) / z;
    }
    const CameraMatch match = match_camera(drawn.pairs, size, {.shift = true, .aspect = true});
    EXPECT_NEAR(match.camera.shift_x, 0.1, 1e-5) << seed;
    EXPECT_NEAR(match.camera.shift_y, -0.2, 1e-5) << seed;
    EXPECT_NEAR(match.camera.pixel_aspect, 1.2, 1e-5) << seed;
    EXPECT_LT((match.camera.eye - camera.eye).norm(), 1e-4) << seed;
  }
}

TEST(CameraMatch, FindsDistortionWhereThatIsAskedFor) {
  for (std::uint64_t seed = 1; seed <= static_cast<std::uint64_t>(effort(12)); ++seed) {
    for (const double at_corner : {-0.1, 0.25}) {
      Drawn drawn = draw(seed, 16, 0);
      Camera camera = drawn.camera;
      const Viewing plain = viewing(camera, size);
      const double corner = std::hypot(plain.u(0), plain.v(0));
      const double k1 = at_corner / (corner * corner);
      camera.distortion_k1 = k1;
      const Viewing seen = viewing(camera, size);
      std::vector<PlateMark> pairs;
      for (PlateMark pair : drawn.pairs) {
        const auto at = seen.pixel(pair.place - camera.eye);
        if (!at) continue;
        pair.x = at->x();
        pair.y = at->y();
        pairs.push_back(pair);
      }
      const CameraMatch match = match_camera(pairs, size, {.distortion = true});
      EXPECT_NEAR(match.camera.distortion_k1, k1, 1e-5) << seed;
      EXPECT_LT((match.camera.eye - camera.eye).norm(), 1e-4) << seed;
      EXPECT_NEAR(match.camera.field_of_view, camera.field_of_view, 1e-5) << seed;
      EXPECT_TRUE(match.outliers.empty());
      // Without it the pairs fit no camera so well.
      EXPECT_GT(match_camera(pairs, size, {.least_outlier = 1e3}).rms, 20 * match.rms + 1e-3);
    }
  }
  const Drawn few = draw(3, 6, 0);
  EXPECT_THROW(match_camera(few.pairs, size, {.distortion = true}), Error);
}

TEST(CameraMatch, TellsTheSpreadOfDistortion) {
  double sum = 0;
  const int count = effort(60);
  for (int n = 0; n < count; ++n) {
    const Drawn drawn = draw(static_cast<std::uint64_t>(n) + 900, 24, 0.4);
    const CameraMatch match =
        match_camera(drawn.pairs, size, {.distortion = true, .least_outlier = 5});
    sum += std::pow(match.camera.distortion_k1 / match.distortion_spread, 2);
  }
  const double slack = 4 * std::sqrt(2.0 / count) * 1.3;
  EXPECT_NEAR(sum / count, 40.0 / 38, slack);
}

TEST(CameraMatch, IsAsGoodAsTheNoiseLetsItBe) {
  // What it says of its own spread is how much cameras differ, over many draws of the noise: sums
  // of squares over their variance.
  double eye = 0;
  double field = 0;
  double turn = 0;
  double pixels = 0;
  const int count = effort(80);
  for (int n = 0; n < count; ++n) {
    const Drawn drawn = draw(static_cast<std::uint64_t>(n) + 500, 24, 0.4);
    const CameraMatch match = match_camera(drawn.pairs, size, {.least_outlier = 5});
    EXPECT_TRUE(match.outliers.empty()) << n;
    for (int axis = 0; axis < 3; ++axis) {
      const double off = match.camera.eye[axis] - drawn.camera.eye[axis];
      eye += std::pow(off / match.eye_spread[static_cast<std::size_t>(axis)], 2) / 3;
    }
    field += std::pow(
        (match.camera.field_of_view - drawn.camera.field_of_view) / degrees(1) / match.field_spread,
        2);
    turn +=
        std::pow(turn_between(match.camera, drawn.camera) / degrees(1) / match.turn_spread, 2) / 3;
    pixels += match.rms * match.rms;
  }
  // Means of chi squares over their degrees of freedom, with the variance estimated by 41 numbers:
  // 41/39, and within four standard errors of that.
  const double slack = 4 * std::sqrt(2.0 / count) * 1.3;
  EXPECT_NEAR(eye / count, 41.0 / 39, slack);
  EXPECT_NEAR(field / count, 41.0 / 39, slack);
  EXPECT_NEAR(turn / count, 41.0 / 39, slack);
  // Of 48 numbers 7 are fitted.
  EXPECT_NEAR(pixels / count, 2 * 0.16 * 41 / 48, 0.16 * slack);
}

TEST(CameraMatch, NamesOutliers) {
  for (std::uint64_t seed = 1; seed <= static_cast<std::uint64_t>(effort(20)); ++seed) {
    Drawn drawn = draw(seed + 900, 18, 0.2);
    // Two places taken for one another, and one a slip of the hand.
    std::swap(drawn.pairs[3].place, drawn.pairs[9].place);
    drawn.pairs[14].x += 60;
    const CameraMatch match = match_camera(drawn.pairs, size);
    EXPECT_THAT(match.outliers, ::testing::IsSupersetOf({3u, 9u, 14u})) << seed;
    EXPECT_LE(match.outliers.size(), 5u) << seed;
    EXPECT_LT(turn_between(match.camera, drawn.camera), degrees(1)) << seed;
  }
}

TEST(CameraMatch, SaysWhatCannotBeTold) {
  // From far away with a narrow view, distance and field of view are one and the same.
  const Camera camera = Camera::look_at({0, -400, 2}, {0, 0, 1}, degrees(0.4));
  const Viewing seen = viewing(camera, size);
  std::vector<PlateMark> pairs;
  for (std::uint64_t k = 0; k < 10; ++k) {
    const auto random = [&](std::uint64_t n) {
      return 2 * random_uniform({.seed = 77, .pixel = k}, n) - 1;
    };
    const Vec3d place(random(0), random(1), 1 + random(2));
    const Vec3d off = place - camera.eye;
    const double z = off.dot(seen.forward);
    pairs.push_back({seen.center_x + seen.focal * off.dot(seen.right) / z + random(3),
                     seen.center_y - seen.focal_y * off.dot(seen.up) / z + random(4), place});
  }
  const CameraMatch match = match_camera(pairs, size, {.least_outlier = 5});
  EXPECT_FALSE(match.unsure.empty());
  EXPECT_LT(match.rms, 3);
}

TEST(CameraMatch, RefusesWhatNoCameraShows) {
  const auto message = [](const std::vector<PlateMark>& pairs,
                          const MatchOptions& options = {}) -> std::string {
    try {
      match_camera(pairs, size, options);
    } catch (const Error& error) {
      return error.what();
    }
    return "nothing";
  };
  const Drawn drawn = draw(1, 7, 0);
  EXPECT_EQ(message(drawn.pairs), "nothing");
  EXPECT_THAT(message({drawn.pairs.begin(), drawn.pairs.begin() + 5}), HasSubstr("at least 6"));
  EXPECT_THAT(message(drawn.pairs, {.shift = true}), HasSubstr("at least 8"));
  std::vector<PlateMark> line;
  for (int k = 0; k < 9; ++k) line.push_back({100.0 * k, 50.0 * k, {1.0 * k, 2.0 * k, 0.5 * k}});
  EXPECT_THAT(message(line), HasSubstr("one line"));
  std::vector<PlateMark> same(8, drawn.pairs.front());
  EXPECT_NE(message(same), "nothing");
  std::vector<PlateMark> nan = drawn.pairs;
  nan[2].place.x() = std::nan("");
  EXPECT_THAT(message(nan), HasSubstr("pair 3"));
}

class MatchTool : public ToolRun {};

TEST_F(MatchTool, PrintsACameraThatScenesTake) {
  folder.write("yard.yaml", yard_text("Yard", "  frame: {width: 320, height: 200}\n"));
  const io::SceneFile file = io::read_scene(folder.path() + "/yard.yaml");
  const Viewing seen = viewing(file.camera, {320, 200});
  std::string csv = "pixel_x,pixel_y,x,y,z\n# corners\n";
  for (int k = 0; k < 8; ++k) {
    const Vec3d place(k % 2, k / 2 % 2, k / 4);
    const Vec3d off = place - file.camera.eye;
    const double z = off.dot(seen.forward);
    csv += fmt::format(
        "{:.6f},{:.6f},{},{},{}\n", seen.center_x + seen.focal * off.dot(seen.right) / z,
        seen.center_y - seen.focal_y * off.dot(seen.up) / z, place.x(), place.y(), place.z());
  }
  folder.write("pairs.csv", csv);
  const Outcome made = tool("match yard.yaml --pairs pairs.csv");
  ASSERT_EQ(made.code, 0) << made.output << made.errors;
  // The lines of the camera are those of a scene.
  std::string text = folder.read("yard.yaml");
  const std::size_t from = text.find("camera:");
  text.replace(
      from, text.find('\n', from) + 1 - from,
      made.output.substr(0, made.output.find("\n", made.output.find("field_of_view")) + 1));
  folder.write("found.yaml", text);
  const io::SceneFile found = io::read_scene(folder.path() + "/found.yaml");
  EXPECT_LT((found.camera.eye - file.camera.eye).norm(), 1e-3);
  EXPECT_NEAR(found.camera.field_of_view, file.camera.field_of_view, 1e-4);
  EXPECT_THAT(tool("match yard.yaml --pairs pairs.csv --json").output, HasSubstr("\"rms\""));
  // An outlier is told, and ends with 1.
  folder.write("slip.csv", csv + "10 10 0.5 0.5 0.5\n");
  const Outcome slip = tool("match yard.yaml --pairs slip.csv");
  EXPECT_EQ(slip.code, 1);
  EXPECT_THAT(slip.output, HasSubstr("outlier"));
  folder.write("bad.csv", "1,2,3,4,5\n1,2,3,x,5\n");
  EXPECT_THAT(refused("match yard.yaml --pairs bad.csv"), HasSubstr("bad.csv:2:7: found 'x'"));
  folder.write("short.csv", "1,2,3,4\n");
  EXPECT_THAT(refused("match yard.yaml --pairs short.csv"), HasSubstr("4 values"));
  folder.write("few.csv", "1,2,3,4,5\n");
  EXPECT_THAT(refused("match yard.yaml --pairs few.csv"), HasSubstr("at least 6"));
}

}  // namespace
}  // namespace photonlane
