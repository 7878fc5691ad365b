// The surface of a plate as a field: distances to planes by their closed form, to anything by balls
// in which all is alike, and never growing faster than distances do.

#include "photonlane/plates/plate_field.hpp"

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

/// A plate of numbers for each pixel; gray.
struct Numbers {
  Size size;
  std::vector<float> gray, depth;

  Numbers(Size its_size, const std::function<double(int, int)>& distance) : size(its_size) {
    for (int y = 0; y < size.height; ++y) {
      for (int x = 0; x < size.width; ++x) depth.push_back(static_cast<float>(distance(x, y)));
    }
    gray.assign(depth.size(), 0.5f);
  }
  Plate plate(const Camera& camera, double thickness) const {
    const PlateImage image{size, gray.data(), 1, size.width, {}};
    Plate plate;
    plate.camera = camera;
    plate.red = plate.green = plate.blue = image;
    plate.depth = {size, depth.data(), 1, size.width, {}};
    plate.thickness = thickness;
    return plate;
  }
};

TEST(PlateField, OfAPlaneIsItsDistance) {
  const Camera camera{.eye = {-4, -3, 2.5}, .heading = 0.6, .pitch = -0.35, .roll = 0.1};
  const Size size{160, 120};
  const Viewing seen = viewing(camera, size);
  const Vec3d normal = Vec3d(-0.5, -0.3, 0.9).normalized();
  const Vec3d on(1, 0.5, 0.2);
  const Numbers numbers(size, [&](int x, int y) {
    const Vec3d way = seen.forward + seen.u(x + 0.5) * seen.right + seen.v(y + 0.5) * seen.up;
    const double distance = normal.dot(on - camera.eye) / normal.dot(way);
    return distance > 0 ? distance : std::numeric_limits<double>::infinity();
  });
  const Bounds box{on - Vec3d::Constant(0.5), on + Vec3d::Constant(0.5)};
  const CompiledField field(plate_field(numbers.plate(camera, 2), box));
  double worst = 0;
  for (std::uint64_t k = 0; k < static_cast<std::uint64_t>(effort(2000)); ++k) {
    const auto random = [&](std::uint64_t n) { return 2 * random_uniform({.pixel = k}, n) - 1; };
    const Vec3d place = on + 0.2 * Vec3d(random(0), random(1), random(2));
    worst = std::max(worst, std::abs(field.distance(place) - normal.dot(place - on)));
  }
  // Depth is told in floats: to a 2^24th of some meters.
  EXPECT_LT(worst, 2e-5);
  // As a volume it is as good, and says so.
  const Field made = plate_field(numbers.plate(camera, 2), box);
  const Volume volume = sample_volume(made, {.points = 14 + effort(26)});
  const VolumeError error = volume_error(volume, made, static_cast<std::size_t>(effort(20000)));
  EXPECT_LT(error.rms, 0.01);
  const CompiledField sampled(field::volume(std::make_shared<const Volume>(volume)));
  for (std::uint64_t k = 0; k < 500; ++k) {
    const auto random = [&](std::uint64_t n) { return 2 * random_uniform({.pixel = k}, n) - 1; };
    const Vec3d place = on + 0.15 * Vec3d(random(0), random(1), random(2));
    EXPECT_NEAR(sampled.distance(place), normal.dot(place - on), 2e-3);
  }
}

TEST(PlateField, IsTheDistanceToAllThatStandsThere) {
  // Steps before one another, and gaps.
  for (std::uint64_t seed = 1; seed <= 3; ++seed) {
    const Size size{24, 18};
    const Camera camera{.eye = {0, 0, 1}, .heading = 0.3 * static_cast<double>(seed)};
    const Numbers numbers(size, [&](int x, int y) {
      const RandomKey key{.seed = seed, .pixel = static_cast<std::uint64_t>(x / 4 + 100 * (y / 3))};
      if (random_uniform(key, 1) < 0.15) return std::numeric_limits<double>::infinity();
      return 3 + 1.5 * random_uniform(key, 0) + 0.01 * x;
    });
    const double thickness = 0.7;
    const Plate plate = numbers.plate(camera, thickness);
    const Viewing seen = viewing(camera, size);
    const Vec3d middle = camera.eye + 3.8 * seen.forward;
    const Bounds box{middle - Vec3d::Constant(1.4), middle + Vec3d::Constant(1.4)};
    const CompiledField field(plate_field(plate, box));
    const auto solid = plate.compile({});
    const auto inside = [&](const Vec3d& place) {
      const Vec3d off = place - camera.eye;
      const double z = off.dot(seen.forward);
      if (z <= 0) return false;
      const double px = seen.center_x + seen.focal * off.dot(seen.right) / z;
      const double py = seen.center_y - seen.focal_y * off.dot(seen.up) / z;
      if (px < 0 || py < 0 || px >= size.width || py >= size.height) return false;
      // Along the eye's lane the front is met, and the back is that much deeper.
      LaneBatch<double> lane;
      lane.size = 1;
      lane.far_limit = 50;
      lane.x[0] = camera.eye.x();
      lane.y[0] = camera.eye.y();
      lane.z[0] = camera.eye.z();
      const Vec3d way = off.normalized();
      lane.direction_x[0] = way.x();
      lane.direction_y[0] = way.y();
      lane.direction_z[0] = way.z();
      const HitBatch<double> hit = solid->nearest_hit(lane, {});
      const double front = hit.t[0] * way.dot(seen.forward);
      return front < 40 && z >= front && z <= front + thickness;
    };
    int near = 0;
    for (std::uint64_t k = 0; k < static_cast<std::uint64_t>(effort(1200)); ++k) {
      const auto random = [&](std::uint64_t n) {
        return 2 * random_uniform({.seed = seed, .pixel = k}, n) - 1;
      };
      const Vec3d place = middle + 1.1 * Vec3d(random(0), random(1), random(2));
      const double value = field.distance(place);
      // Within on one side of 0, outside on the other.
      EXPECT_EQ(value < 0, inside(place)) << seed << " " << k;
      // In a ball that is smaller than the distance all is alike, and in one a little larger not.
      const double radius = std::abs(value);
      bool other = false;
      for (std::uint64_t n = 0; n < 200; ++n) {
        const auto ball = [&](std::uint64_t m) {
          return 2 * random_uniform(
                         {.seed = seed + 50, .pixel = k, .sample = static_cast<std::uint32_t>(n)},
                         m) -
                 1;
        };
        const Vec3d way = Vec3d(ball(0), ball(1), ball(2)).normalized();
        const double share = 0.5 * (ball(3) + 1);
        EXPECT_EQ(inside(place + 0.999 * share * radius * way), value < 0)
            << seed << " " << k << " " << value;
        other = other || inside(place + (1.3 * radius + 0.02) * way) != (value < 0);
      }
      near += other;
      // Distances grow by at most 1 for a meter.
      const Vec3d beside = place + 0.05 * Vec3d(random(4), random(5), random(6));
      EXPECT_LE(std::abs(field.distance(beside) - value), (beside - place).norm() + 1e-6)
          << seed << " " << k;
    }
    EXPECT_GT(near, effort(1200) / 3);
  }
}

TEST(PlateField, RefusesBoxesOfNothing) {
  const Numbers numbers({8, 6}, [](int, int) { return 3.0; });
  const Plate plate = numbers.plate({}, 0.5);
  const auto message = [&](const Bounds& box) -> std::string {
    try {
      plate_field(plate, box);
    } catch (const Error& error) {
      return error.what();
    }
    return "nothing";
  };
  EXPECT_EQ(message({{2, -1, 1}, {4, 1, 2}}), "nothing");
  EXPECT_THAT(message({{2, -1, 1}, {2, 1, 2}}), HasSubstr("without size"));
  EXPECT_THAT(message({{-4, -1, 1}, {-3, 1, 2}}), HasSubstr("nothing of the plate"));
}

class PlateVolume : public ToolRun {};

TEST_F(PlateVolume, IsMadeForJoins) {
  folder.write("yard.yaml", yard_text("Yard", "  frame: {width: 96, height: 60}\n"));
  ASSERT_EQ(tool("render yard.yaml -o yard.exr").code, 0);
  const std::string head =
      "camera: &made {eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}\n"
      "materials: {moss: {base: [0.2, 0.5, 0.2]}}\n"
      "room:\n"
      "  sky: {}\n"
      "  light: {sun: {heading: 200}}\n"
      "  solids:\n"
      "    - plate:\n"
      "        color: yard.exr\n"
      "        depth: {file: yard.exr}\n"
      "        camera: *made\n"
      "        thickness: 0.3\n";
  const std::string tail = "budget: {frame: {width: 96, height: 60}}\n";
  folder.write("plate.yaml", head + tail);
  const Outcome made = tool(
      "make volume plate.yaml --plate 1 --box=-1.6,-1.6,-0.3,-0.6,-0.6,0.6 --set points=40 -o "
      "floor.volume");
  ASSERT_EQ(made.code, 0) << made.errors;
  // A mound that runs out into the floor, which is there as depth alone.
  folder.write("mound.yaml",
               head +
                   "    - field:\n"
                   "        join:\n"
                   "          radius: 0.25\n"
                   "          of:\n"
                   "            - offset: {distance: -0.004, of: {volume: {file: floor.volume}}}\n"
                   "            - place: {at: [-1.1, -1.1, 0.1], of: {sphere: {radius: 0.2}}}\n"
                   "        material: moss\n" +
                   tail);
  const Outcome shown = tool("render mound.yaml -o mound.exr");
  ASSERT_EQ(shown.code, 0) << shown.errors;
  const Frame with = io::read_frame(folder.path() + "/mound.exr");
  const Frame yard = io::read_frame(folder.path() + "/yard.exr");
  // It is nearer than the floor where it is, and the floor is as it was elsewhere; around it, it
  // comes down to the floor by and by.
  int on = 0;
  int slight = 0;
  for (int y = 0; y < 60; ++y) {
    for (int x = 0; x < 96; ++x) {
      const float before = yard.values(Layer::depth)(x, y);
      const float now = with.values(Layer::depth)(x, y);
      if (before > 100) continue;
      EXPECT_LE(now, before * 1.0005f) << x << " " << y;
      on += now < before - 0.02f;
      slight += now < before - 0.003f && now > before - 0.03f;
    }
  }
  EXPECT_GT(on, 40);
  EXPECT_GT(slight, 10);
  EXPECT_THAT(refused("make volume plate.yaml --plate 2 --box=0,0,0,1,1,1 -o x.volume"),
              HasSubstr("the scene has 1"));
  EXPECT_THAT(refused("make volume plate.yaml --plate 1 -o x.volume"), HasSubstr("--box"));
}

}  // namespace
}  // namespace photonlane
