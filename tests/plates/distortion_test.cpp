// Lenses that distort: what a camera shows, and plates that were made with one.

#include <gmock/gmock.h>

#include <cmath>
#include <limits>
#include <random>

#include "photonlane/photonlane.hpp"
#include "support/plates.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

/// Where a lens shows what lies at a tangent.
double shown(const Camera& camera, double r) {
  return r * (1 + camera.distortion_k1 * r * r + camera.distortion_k2 * r * r * r * r);
}

/// The tangent that is shown there, by halving alone.
double tangent_at(const Camera& camera, double seen) {
  double low = 0;
  double high = 8;
  for (double r = 0; r < 8; r += 1e-3) {
    if (shown(camera, r) >= seen) {
      high = r;
      break;
    }
  }
  for (int round = 0; round < 200; ++round) {
    const double middle = 0.5 * (low + high);
    (shown(camera, middle) < seen ? low : high) = middle;
  }
  return low;
}

TEST(Distortion, ShowsDirectionsWhereItsFormulaSays) {
  std::mt19937 random(4);
  const auto between = [&](double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random);
  };
  int tried = 0;
  while (tried < 300) {
    Camera camera{.eye = {1, 2, 3}, .heading = between(0, 6), .pitch = between(-1, 1)};
    camera.field_of_view = degrees(between(5, 110));
    camera.shift_x = between(-0.2, 0.2);
    camera.pixel_aspect = between(0.7, 1.4);
    camera.distortion_k1 = between(-0.4, 0.4);
    camera.distortion_k2 = between(-0.1, 0.2);
    const Size size{97, 61};
    Viewing view;
    try {
      view = viewing(camera, size);
    } catch (const Error&) {
      continue;  // what shows no corner
    }
    ++tried;
    for (int k = 0; k < 20; ++k) {
      const double px = between(0, size.width);
      const double py = between(0, size.height);
      const double u = view.u(px);
      const double v = view.v(py);
      const double seen = std::hypot(u, v);
      const double r = tangent_at(camera, seen);
      const Vec3d expected =
          (view.forward + r / seen * (u * view.right + v * view.up)).normalized();
      const Vec3d ray = view.ray(u, v);
      ASSERT_LT((ray - expected).norm(), 1e-9);
      const auto again = view.pixel(3.7 * ray);
      ASSERT_TRUE(again.has_value());
      ASSERT_NEAR(again->x(), px, 1e-7);
      ASSERT_NEAR(again->y(), py, 1e-7);
    }
    // The axis itself.
    const auto middle = view.pixel(view.forward);
    ASSERT_TRUE(middle.has_value());
    EXPECT_NEAR(middle->x(), view.center_x, 1e-12);
    EXPECT_FALSE(view.pixel(-view.forward).has_value());
  }
}

TEST(Distortion, RefusesLensesThatShowADirectionTwice) {
  const Size size{64, 64};
  Camera camera;
  camera.field_of_view = degrees(90);
  // At k1 = -1/3 all grows up to a tangent of 1, which is shown at 2/3; the corners are at 1.41.
  camera.distortion_k1 = -1.0 / 3;
  EXPECT_THROW(viewing(camera, size), Error);
  // Such a lens shows all of a picture whose corners are nearer than 2/3, if only just.
  const double side = 2.0 / 3 / std::sqrt(2.0);
  camera.field_of_view = 2 * std::atan(side * 0.9999);
  EXPECT_NO_THROW(viewing(camera, size));
  camera.field_of_view = 2 * std::atan(side * 1.0001);
  EXPECT_THROW(viewing(camera, size), Error);
  camera.field_of_view = degrees(40);
  camera.distortion_k1 = 0.1;
  camera.projection = Projection::cylindrical;
  EXPECT_THROW(viewing(camera, size), Error);
  camera.projection = Projection::planar;
  camera.distortion_k1 = std::nan("");
  EXPECT_THROW(viewing(camera, size), Error);
  // With k2 alone, and where both roots of its slope lie on one side.
  for (const auto& [k1, k2] : {std::pair(0.0, -0.2), std::pair(-0.6, 0.05), std::pair(0.3, -0.4)}) {
    camera.distortion_k1 = k1;
    camera.distortion_k2 = k2;
    double first = 8;
    for (double r = 0; r < 8; r += 1e-4) {
      if (shown(camera, r + 1e-4) <= shown(camera, r)) {
        first = r;
        break;
      }
    }
    ASSERT_LT(first, 8);
    camera.field_of_view = 2 * std::atan(shown(camera, first) / std::sqrt(2.0) * 0.999);
    const Viewing view = viewing(camera, size);
    EXPECT_NEAR(view.farthest, first, 2e-3);
    camera.field_of_view = 2 * std::atan(shown(camera, first) / std::sqrt(2.0) * 1.001);
    EXPECT_THROW(viewing(camera, size), Error);
  }
}

TEST(Distortion, OfAFrameIsThatOfItsLanes) {
  // A wall of known distance: what each lane runs is that of its direction.
  Scene scene;
  const int brick = static_cast<int>(material_of(scene.wall({.base = {0.5f, 0.3f, 0.2f}})));
  scene.room().add(field::plane({-1, 0, 0}, -3).made_of(brick));
  Camera camera{.eye = {0, 0, 1}};
  camera.field_of_view = degrees(70);
  camera.distortion_k1 = -0.15;
  camera.distortion_k2 = 0.02;
  for (const NumberType number : {NumberType::float32, NumberType::float64}) {
    Budget budget{.frame = {60, 40, 1}};
    budget.number = number;
    const Frame frame =
        render(compile(scene), camera, budget, {.layers = {Layer::ray_distance, Layer::depth}});
    const Viewing view = viewing(camera, {60, 40});
    for (int y = 0; y < 40; ++y) {
      for (int x = 0; x < 60; ++x) {
        const double r = tangent_at(camera, std::hypot(view.u(x + 0.5), view.v(y + 0.5)));
        ASSERT_NEAR(frame.values(Layer::ray_distance)(x, y), 3 * std::sqrt(1 + r * r), 2e-3);
        ASSERT_NEAR(frame.values(Layer::depth)(x, y), 3, 2e-3);
      }
    }
  }
}

TEST(Distortion, OfCellsIsNotThatOfColumns) {
  Scene scene;
  const Cell wall = scene.wall({.base = {0.5f, 0.3f, 0.2f}});
  CellMap map{.width = 3, .height = 3, .cells = std::vector<Cell>(9, wall)};
  map.at(1, 1) = 0;
  scene.room().cells = map;
  Camera camera{.eye = {1.5, 1.4, 1.2}};
  Budget budget{.frame = {60, 40, 1}};
  const World world = compile(scene);
  const Frame straight = render(world, camera, budget, {.layers = {Layer::depth, Layer::steps}});
  camera.distortion_k1 = -0.1;
  const Frame bent = render(world, camera, budget, {.layers = {Layer::depth, Layer::steps}});
  EXPECT_NE(hash_of(straight, Layer::depth), hash_of(bent, Layer::depth));
  budget.rays = Rays::columns;
  EXPECT_THROW(render(world, camera, budget), Error);
}

TEST(PartCameras, ShowWhatThatPartShows) {
  std::mt19937 random(7);
  const auto between = [&](double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random);
  };
  const Size size{80, 50};
  for (int k = 0; k < 200; ++k) {
    Camera camera{.eye = {0, 0, 1}, .heading = between(0, 6), .pitch = between(-1, 1)};
    camera.roll = between(-1, 1);
    camera.field_of_view = degrees(between(10, 100));
    camera.field_axis = k % 2 == 0 ? FieldAxis::vertical : FieldAxis::horizontal;
    if (k % 5 == 0) camera.projection = Projection::cylindrical;
    camera.shift_x = between(-0.3, 0.3);
    camera.shift_y = between(-0.3, 0.3);
    if (k % 5 != 0 && k % 3 == 0) camera.distortion_k1 = 0.05;
    const PixelPart part{static_cast<int>(between(-30, 40)),
                         static_cast<int>(between(-20, 20)),
                         {static_cast<int>(between(1, 90)), static_cast<int>(between(1, 60))}};
    const Viewing whole = viewing(camera, size);
    const Viewing own = viewing(part_camera(camera, size, part), part.size);
    for (int i = 0; i < 10; ++i) {
      const double x = between(0, part.size.width);
      const double y = between(0, part.size.height);
      const Vec3d one = whole.ray(whole.u(part.x + x), whole.v(part.y + y));
      ASSERT_LT((one - own.ray(own.u(x), own.v(y))).norm(), 1e-12) << k;
    }
  }
}

/// The yard through a lens that distorts, as a picture.
struct BentYard {
  Camera camera = yard_camera;
  Pixels pixels{yard_budget().frame.size()};

  BentYard(double k1, double k2) {
    camera.distortion_k1 = k1;
    camera.distortion_k2 = k2;
    pixels = Pixels(render(compile(yard(false)), camera, yard_budget(),
                           {.layers = {Layer::color, Layer::depth}}));
  }
};

TEST(BentPlates, AreTheSceneTheyShow) {
  for (const auto& [k1, k2] : {std::pair(-0.2, 0.03), std::pair(0.25, 0.0)}) {
    const BentYard bent(k1, k2);
    Scene with;
    Plate plate = bent.pixels.plate(bent.camera);
    plate.thickness = 0.4;
    with.room().add(plate);
    Scene whole = yard(true);
    const Field guest = whole.room().fields.back();
    with.materials = whole.materials;
    with.material_names = whole.material_names;
    with.room().light = whole.room().light;
    with.room().fog = whole.room().fog;
    with.room().add(guest);
    const LayerSet layers{Layer::color, Layer::depth};
    // By the lens it was made with, and by one that does not distort.
    for (const bool straight : {false, true}) {
      Camera camera = bent.camera;
      if (straight) {
        camera.distortion_k1 = camera.distortion_k2 = 0;
        // Within what the plate shows.
        camera.field_of_view *= 0.85;
      }
      const Frame expected = render(compile(whole), camera, yard_budget(), {.layers = layers});
      const Frame frame = render(compile(with), camera, yard_budget(), {.layers = layers});
      std::size_t off_depth = 0;
      std::size_t off_color = 0;
      double sum = 0;
      for (int y = 0; y < 100; ++y) {
        for (int x = 0; x < 160; ++x) {
          const float one = expected.values(Layer::depth)(x, y);
          const float other = frame.values(Layer::depth)(x, y);
          off_depth += !(std::abs(one - other) <= 0.02f * one) && std::isfinite(one);
          float most = 0;
          for (int c = 0; c < 3; ++c) {
            most = std::max(most, std::abs(expected.values(Layer::color, c)(x, y) -
                                           frame.values(Layer::color, c)(x, y)));
          }
          off_color += most > 0.03f;
          sum += static_cast<double>(most);
        }
      }
      // What differs lies beside edges, which a pixel of the plate may be taken over.
      EXPECT_LT(static_cast<double>(off_depth), 0.008 * 16000) << k1 << " " << straight;
      EXPECT_LT(static_cast<double>(off_color), 0.04 * 16000) << k1 << " " << straight;
      EXPECT_LT(sum / 16000, 0.01) << k1 << " " << straight;
    }
  }
}

TEST(BentPlates, AreCheckedByTheirOwnPixels) {
  const BentYard bent(-0.2, 0.03);
  Plate plate = bent.pixels.plate(bent.camera);
  const Viewing view = viewing(bent.camera, {160, 100});
  for (const auto& [x, y] : {std::pair(8, 95), std::pair(150, 92), std::pair(60, 80),
                             std::pair(130, 70), std::pair(20, 60), std::pair(100, 96)}) {
    const Vec3d ray = view.ray(view.u(x + 0.5), view.v(y + 0.5));
    const double along = static_cast<double>(bent.pixels.depth[bent.pixels.at(x, y)]);
    plate.marks.push_back(
        {x + 0.5, y + 0.5, bent.camera.eye + along / ray.dot(view.forward) * ray});
  }
  plate.ground = 0;
  EXPECT_TRUE(find_plate_faults(plate).empty());
  // Without the distortion the marks are elsewhere.
  plate.camera.distortion_k1 = plate.camera.distortion_k2 = 0;
  const auto faults = find_plate_faults(plate);
  ASSERT_FALSE(faults.empty());
  EXPECT_THAT(faults[0], HasSubstr("pixels off"));
}

TEST(BentPlates, TakeNoMorePixelsThanTheirLensSpreads) {
  // The lenses that spread most: their corners are shown where they hardly grow apart.
  Pixels pixels({64, 64});
  Camera camera;
  camera.field_of_view = degrees(90);
  for (const auto& [k1, k2] : {std::pair(-0.0740, 0.0), std::pair(-0.2, 0.0181)}) {
    camera.distortion_k1 = k1;
    camera.distortion_k2 = k2;
    const Plate plate = straightened(pixels.plate(camera));
    // As far as the border is spread anywhere.
    double most = 0;
    for (int k = 0; k <= 100; ++k) {
      const double seen = std::hypot(1, 0.01 * k);
      most = std::max(most, tangent_at(camera, seen) / seen);
    }
    EXPECT_NEAR(plate.depth.size.width, 64 * most, 2) << k1;
    EXPECT_LT(plate.depth.size.width, 64 * 9 / 4 + 2);
  }
  const Plate plate = pixels.plate(Camera{});
  EXPECT_EQ(straightened(plate).depth.values, plate.depth.values) << "nothing to be done";
}

TEST(PlateNormals, AreThoseThatTheFilesSay) {
  // A level plate seen from above, and normals that lean: what is met faces so.
  Pixels pixels({32, 32});
  pixels.depth.assign(pixels.depth.size(), 2);
  Camera camera{.eye = {0, 0, 2}, .pitch = degrees(-90)};
  std::vector<float> x(1024, 0.6f);
  std::vector<float> y(1024, 0);
  std::vector<float> z(1024, 0.8f * 3);
  // Some are no numbers, some are none, some face away: there it is the depth's.
  x[5] = std::nanf("");
  x[6] = y[6] = z[6] = 0;
  z[7] = -1;
  x[7] = 0;
  for (float& one : x) one *= 3;
  Plate plate = pixels.plate(camera);
  plate.normal = {pixels.image(x), pixels.image(y), pixels.image(z)};
  Scene scene;
  scene.room().add(plate);
  const Frame frame =
      render(compile(scene), camera, {.frame = {32, 32, 1}}, {.layers = {Layer::normal}});
  for (int i = 0; i < 1024; ++i) {
    const bool depth = i >= 5 && i <= 7;
    ASSERT_NEAR(frame.values(Layer::normal, 0)(i % 32, i / 32), depth ? 0 : 0.6f, 1e-3f) << i;
    ASSERT_NEAR(frame.values(Layer::normal, 2)(i % 32, i / 32), depth ? 1 : 0.8f, 1e-3f) << i;
  }
  plate.normal[1] = {};
  EXPECT_THROW(plate.compile({.materials = 1, .plain = 0}), Error);
  plate.normal[1] = pixels.image(y);
  plate.normal[1].size = {16, 64};
  EXPECT_THROW(plate.compile({.materials = 1, .plain = 0}), Error);
}

}  // namespace
}  // namespace photonlane
