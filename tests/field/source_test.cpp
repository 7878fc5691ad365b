// Shapes from data and functions: what they are, what they say of themselves, and where they lie.

#include <gmock/gmock.h>

#include <cmath>
#include <filesystem>
#include <fstream>
#include <numbers>

#include "photonlane/base/random.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/files.hpp"

namespace photonlane {
namespace {

using namespace field;
using ::testing::HasSubstr;

Vec3d somewhere(std::uint64_t which, double reach) {
  Vec3d place;
  for (int axis = 0; axis < 3; ++axis) {
    place[axis] =
        reach *
        (2 * random_uniform({.seed = 77, .pixel = which}, static_cast<std::uint32_t>(axis)) - 1);
  }
  return place;
}

std::string refusal(const std::function<void()>& work) {
  try {
    work();
  } catch (const Error& error) {
    return error.what();
  }
  return "accepted";
}

/// `lie` times the distance of a ball, which it says is one.
FieldFunction ball(double radius, double lie = 1) {
  return {.name = "ball",
          .bounds = {Vec3d::Constant(-radius), Vec3d::Constant(radius)},
          .stretch = 1,
          .values = [=](const SourceBatch<double>& batch) {
            for (std::size_t i = 0; i < batch.count; ++i) {
              batch.value[i] = lie * (std::hypot(batch.x[i], batch.y[i], batch.z[i]) - radius);
            }
          }};
}

TEST(Volumes, ComeNearerTheMorePointsTheyHave) {
  const Field shape = join(0.3, {sphere(0.7), place({0.5, 0.2, 0.3}, sphere(0.4))});
  VolumeError before;
  for (const int points : {17, 33, 65}) {
    const VolumeError error =
        volume_error(sample_volume(shape, {.points = points, .padding = 0.2}), shape);
    EXPECT_LT(error.rms, error.cell * 0.01);
    EXPECT_LE(error.rms, error.largest);
    EXPECT_LE(error.largest, error.everywhere);
    if (points > 17) {
      EXPECT_LT(error.rms, before.rms / 4) << points;
    }
    before = error;
  }
}

TEST(Volumes, GoThroughTheirPointsAndLoseWhatRoundingTakes) {
  const Field shape = join(0.1, {box({0.9, 0.7, 0.5}), place({0.3, 0.2, 0.3}, sphere(0.4))});
  const CompiledField exact(shape);
  double step = 0;
  for (const VolumeStorage storage :
       {VolumeStorage::floats, VolumeStorage::words, VolumeStorage::bytes}) {
    const Volume made = sample_volume(shape, {.points = 21, .padding = 0.15, .storage = storage});
    EXPECT_EQ(made.memory_bytes(), made.count() * (storage == VolumeStorage::floats  ? 4
                                                   : storage == VolumeStorage::words ? 2
                                                                                     : 1));
    const CompiledField sampled(volume(std::make_shared<const Volume>(made)));
    step = storage == VolumeStorage::floats ? 1e-6 : made.step;
    for (int z = 0; z < made.size[2]; z += 3) {
      for (int x = 0; x < made.size[0]; ++x) {
        const Vec3d share(x / (made.size[0] - 1.0), 4 / (made.size[1] - 1.0),
                          z / (made.size[2] - 1.0));
        const Vec3d at = made.box.low + share.cwiseProduct(made.box.high - made.box.low);
        EXPECT_NEAR(sampled.distance(at), exact.distance(at), step) << name_of(storage);
      }
    }
  }
}

TEST(Volumes, AreNeverNearerThanTheySayOutsideTheirBoxToo) {
  const Field shape = volume(
      std::make_shared<const Volume>(sample_volume(sphere(0.5), {.points = 24, .padding = 0.2})));
  const CompiledField sampled(shape);
  double off = 0;
  for (std::uint64_t i = 0; i < 2000; ++i) {
    const Vec3d at = somewhere(i, 3);
    const double distance = at.norm() - 0.5;
    if (distance < 0) continue;
    EXPECT_LE(sampled.distance(at) / shape.stretch(), distance + 0.003);
    if (distance > 1) off = std::max(off, distance - sampled.distance(at));
  }
  // And not much nearer: a quarter of a box is what lies between.
  EXPECT_LT(off, 0.8);
  EXPECT_LT(shape.stretch(), 1.8);
}

TEST(Volumes, ComeBackFromTheirFilesAndBrokenOnesAreRefused) {
  const test::TemporaryFolder folder;
  const std::string path = folder.path() + "/ball.volume";
  for (const VolumeStorage storage :
       {VolumeStorage::floats, VolumeStorage::words, VolumeStorage::bytes}) {
    const Volume made =
        sample_volume(sphere(0.5), {.points = 9, .padding = 0.1, .storage = storage});
    io::write_volume(path, made);
    const Volume again = io::read_volume(path);
    EXPECT_EQ(again.size, made.size);
    EXPECT_EQ(again.box.low, made.box.low);
    EXPECT_EQ(again.floats, made.floats);
    EXPECT_EQ(again.words, made.words);
    EXPECT_EQ(again.bytes, made.bytes);
    EXPECT_EQ(again.step, made.step);
  }
  std::filesystem::resize_file(path, std::filesystem::file_size(path) - 1);
  EXPECT_THAT(refusal([&] { io::read_volume(path); }),
              HasSubstr("728 bytes of numbers, expected 729"));
  folder.write("ball.volume", "photonlane volume 1\n{\"size\": [9, 9]}\n");
  EXPECT_THAT(refusal([&] { io::read_volume(path); }), HasSubstr(":2: not a volume's header"));
  // Counts that no integer holds, that are none, and that are too few.
  for (const char* size : {"[6.9e13, 9, 9]", "[9, -1.1, 9]", "[9, 9, 1e300]", "[9.5, 9, 9]",
                           "[1, 9, 9]", "[9, 0, 9]"}) {
    folder.write("ball.volume", "photonlane volume 1\n{\"size\": " + std::string(size) + "}\n");
    EXPECT_THAT(refusal([&] { io::read_volume(path); }), HasSubstr("points each way")) << size;
  }
  folder.write("ball.volume", "something else\n");
  EXPECT_THAT(refusal([&] { io::read_volume(path); }), HasSubstr("not a volume"));
  EXPECT_THAT(refusal([&] { io::write_volume(folder.path() + "/ball.bin", {}); }),
              HasSubstr("ends in .volume"));
}

TEST(Volumes, ThatCannotBeAreRefused) {
  EXPECT_THAT(refusal([] { sample_volume(plane({0, 0, 1})); }), HasSubstr("without end"));
  EXPECT_THAT(refusal([] { sample_volume(sphere(1), {.points = 1}); }), HasSubstr("points"));
  EXPECT_THAT(refusal([] { sample_volume(sphere(1), {.points = 4000}); }),
              HasSubstr("a volume of 4000x4000x4000 takes"));
  EXPECT_THAT(refusal([] { volume(nullptr); }), HasSubstr("no volume"));
  auto made = std::make_shared<Volume>(sample_volume(sphere(1), {.points = 5}));
  made->floats.pop_back();
  EXPECT_THAT(refusal([&] { volume(made); }), HasSubstr("a volume of 124 numbers, expected 125"));
  made->floats.push_back(std::nanf(""));
  EXPECT_THAT(refusal([&] { volume(made); }), HasSubstr("not numbers"));
}

TEST(Heights, AreTheirFunctionOverTheLengthOfItsSlope) {
  const auto slope = [](double x, double y) { return 0.5 + 0.3 * x - 0.4 * y; };
  const Field made = heights(sample_heights({2, 1}, 9, 7, slope), {2, 1, 1});
  const CompiledField compiled(made);
  const double longer = std::hypot(1.0, 0.5);
  EXPECT_NEAR(made.looseness(), longer, 1e-4);
  for (std::uint64_t i = 0; i < 300; ++i) {
    Vec3d at = somewhere(i, 0.45);
    at.z() = slope(at.x(), at.y()) + 0.1 * at.z();
    EXPECT_NEAR(compiled.distance(at), (at.z() - slope(at.x(), at.y())) / longer, 1e-5);
    EXPECT_LT((compiled.gradient(at) - Vec3d(-0.3, 0.4, 1) / longer).norm(), 1e-4);
  }
  // A block: it ends beside its rectangle and at its foot.
  EXPECT_NEAR(compiled.distance({1.5, 0, 0.2}), 0.5, 1e-9);
  EXPECT_NEAR(compiled.distance({0, 0, -0.3}), 0.3, 1e-9);
  EXPECT_THAT(refusal([&] {
                heights(sample_heights({1, 1}, 1, 5, slope), {1, 1, 1});
              }),
              HasSubstr("heights of 1x5"));
}

TEST(Heights, ComeFromPictures) {
  const test::TemporaryFolder folder;
  io::Picture picture({3, 2});
  const int brightness[2][3] = {{0, 51, 255}, {102, 153, 204}};
  for (int y = 0; y < 2; ++y) {
    for (int x = 0; x < 3; ++x) {
      std::fill_n(picture.pixel(x, y), 3, static_cast<std::uint8_t>(brightness[y][x]));
    }
  }
  io::write_png(folder.path() + "/hills.png", picture);
  const HeightMap map = io::read_heights(folder.path() + "/hills.png");
  EXPECT_THAT(map.heights,
              testing::Pointwise(testing::FloatNear(1e-6f), {0.4f, 0.6f, 0.8f, 0.0f, 0.2f, 1.0f}));
  const std::string text =
      "camera: {eye: [0, -4, 1], look_at: [0, 0, 0]}\nroom:\n  solids:\n    - field: {heights: "
      "{size: [2, 1, 0.5], file: hills.png}}\n";
  folder.write("hills.yaml", text);
  const io::SceneFile file = io::read_scene(folder.path() + "/hills.yaml");
  const CompiledField compiled(file.scene.room().fields.front());
  // The upper left texel is in the north-west.
  EXPECT_NEAR(compiled.distance({-1, 0.5, 0}), 0, 1e-6);
  EXPECT_LT(compiled.distance({0.99, 0.49, 0.45}), 0);
  EXPECT_THAT(io::scene_text(file), HasSubstr("file: \"hills.png\""));
}

TEST(Functions, AreAskedAsTheyAreAndDifferencedWhereTheyHaveNoSlopes) {
  FieldFunction sloped = ball(0.8);
  sloped.slopes = true;
  sloped.values = [](const SourceBatch<double>& batch) {
    for (std::size_t i = 0; i < batch.count; ++i) {
      const double length = std::hypot(batch.x[i], batch.y[i], batch.z[i]);
      batch.value[i] = length - 0.8;
      if (batch.slope_x == nullptr) continue;
      batch.slope_x[i] = batch.x[i] / length;
      batch.slope_y[i] = batch.y[i] / length;
      batch.slope_z[i] = batch.z[i] / length;
    }
  };
  const CompiledField exact(place({0.2, 0, 0}, sphere(0.8), {0, 0.3, 0}, 1.5));
  const CompiledField plain(place({0.2, 0, 0}, function(ball(0.8)), {0, 0.3, 0}, 1.5));
  const CompiledField known(place({0.2, 0, 0}, function(sloped), {0, 0.3, 0}, 1.5));
  for (std::uint64_t i = 0; i < 200; ++i) {
    const Vec3d at = somewhere(i, 2);
    EXPECT_NEAR(plain.distance(at), exact.distance(at), 1e-12);
    EXPECT_LT((plain.gradient(at) - exact.gradient(at)).norm(), 1e-8);
    EXPECT_LT((known.gradient(at) - exact.gradient(at)).norm(), 1e-12);
  }
}

TEST(Functions, ThatGiveNoNumbersAreRefused) {
  FieldFunction broken = ball(1);
  broken.values = [](const SourceBatch<double>& batch) {
    for (std::size_t i = 0; i < batch.count; ++i) batch.value[i] = std::sqrt(batch.x[i]);
  };
  EXPECT_THAT(refusal([&] { function(broken); }), HasSubstr("ball: not a number at ["));
  broken.values = nullptr;
  EXPECT_THAT(refusal([&] { function(broken); }), HasSubstr("no function"));
  FieldFunction flat = ball(1);
  flat.stretch = 0;
  EXPECT_THAT(refusal([&] { function(flat); }), HasSubstr("a stretch of 0"));
  EXPECT_THAT(refusal([] { Field(FieldKind::function, {}); }), HasSubstr("without a source"));
  EXPECT_THAT(refusal([] { Field(FieldKind::sphere, {1}, {}, function(ball(1)).source()); }),
              HasSubstr("sphere with a source"));
}

/// A frame of every layer of what stands before an eye 4 m to the south.
Frame seen(const Field& what, Budget budget = {}) {
  Scene scene;
  scene.materials.emplace_back();
  scene.room().add(what.made_of(0));
  budget.frame = {64, 48, 1};
  budget.far_limit = 50;
  const Camera camera = Camera::look_at({0, -4, 0}, {0, 0, 0}, degrees(40));
  return render(compile(scene), camera, budget,
                {.layers = LayerSet::measurable(), .progress = {}, .recycle = {}});
}

TEST(Functions, WithoutANumberOnTheWayLeaveTheLaneSpent) {
  // No number in a small place that trying at random does not find.
  FieldFunction holed = ball(0.5);
  holed.values = [](const SourceBatch<double>& batch) {
    for (std::size_t i = 0; i < batch.count; ++i) {
      const double away = std::hypot(batch.x[i] - 0.3, batch.y[i] + 0.45, batch.z[i]);
      batch.value[i] = away < 0.04 ? std::nan("")
                                   : std::min(std::hypot(batch.x[i], batch.y[i], batch.z[i]) - 0.5,
                                              std::max(away - 0.035, 0.004));
    }
  };
  const Frame frame = seen(function(holed));
  EXPECT_GT(frame.tally.spent, 0u);
  EXPECT_LT(frame.tally.spent, 10u);
  EXPECT_GT(frame.tally.hits, 100u);
}

TEST(Stretch, FaultsAreFoundAndNamedByTheirPart) {
  const Field honest = join({sphere(0.5), place({1, 0, 0}, function(ball(0.4)))});
  EXPECT_TRUE(find_stretch_faults(honest).empty());
  const Field lying =
      join({sphere(0.5), place({1, 0, 0}, twist(0.5, function(ball(0.4, 2.5))), {0, 0, 0}, 2)});
  const std::vector<StretchFault> faults = find_stretch_faults(lying);
  ASSERT_EQ(faults.size(), 1u);
  EXPECT_EQ(faults[0].part, "join > place > twist > function ball");
  EXPECT_EQ(faults[0].said, 1);
  EXPECT_NEAR(faults[0].found, 2.5, 0.01);

  Scene scene;
  scene.room().add(lying);
  const SceneReport report = check(scene, Camera::look_at({0, -4, 0}, {0, 0, 0}, 1), {});
  ASSERT_EQ(report.warnings.size(), 1u);
  EXPECT_THAT(report.warnings[0], HasSubstr("field 1: join > place > twist > function ball grows"));
}

TEST(Stretch, NoKindLies) {
  const std::vector<Field> fields{
      ellipsoid({0.3, 0.9, 0.5}),
      taper(0.4, 1.6, box({0.7, 0.7, 1})),
      bend(2.5, box({2.3, 0.4, 0.5})),
      bend(-2, twist(2, capsule({-1.3, 0, 0}, {1.3, 0, 0.1}, 0.1))),
      noise(0.1, 0.3, 3, sphere(0.6), NoiseForm::gradient),
      twist(4, box({1, 0.2, 1})),
      heights(sample_heights({1, 1}, 8, 8, [](double x, double y) { return 0.5 + x * y * 3; }),
              {1, 1, 1}),
      repeat({0.6, 0, 0}, {4, 0, 0}, place({0.2, 0, 0}, sphere(0.35))),
      around(5, place({0.5, 0, 0}, box({0.5, 0.7, 0.3}, 0.05), {0.3, 0.2, 1})),
      join(0.3, {sphere(0.5), place({0.5, 0.3, 0}, box({0.5, 0.5, 0.5}))}, Profile::circular)};
  for (const Field& one : fields) {
    for (const StretchFault& fault : find_stretch_faults(one, 20000)) {
      ADD_FAILURE() << fault.part << " says " << fault.said << " and does " << fault.found << " at "
                    << fault.place.transpose();
    }
  }
}

TEST(FieldLayers, NormalsAndTheNearestValueAreThoseOfTheShape) {
  const Frame frame = seen(sphere(1));
  const auto distance = frame.values(Layer::ray_distance);
  const Viewing view = viewing(Camera::look_at({0, -4, 0}, {0, 0, 0}, degrees(40)), {64, 48});
  int hits = 0;
  for (int y = 0; y < 48; ++y) {
    for (int x = 0; x < 64; ++x) {
      const Vec3d way = view.ray(view.u(x + 0.5), view.v(y + 0.5)).normalized();
      const Vec3d normal(frame.values(Layer::normal, 0)(x, y), frame.values(Layer::normal, 1)(x, y),
                         frame.values(Layer::normal, 2)(x, y));
      EXPECT_EQ(frame.codes(Layer::overstretched)(x, y), 0u);
      if (std::isfinite(distance(x, y))) {
        const Vec3d at = Vec3d(0, -4, 0) + static_cast<double>(distance(x, y)) * way;
        EXPECT_LT((normal - at).norm(), 1e-4);
        EXPECT_EQ(frame.codes(Layer::material)(x, y), 0u);
        EXPECT_GE(frame.codes(Layer::evaluations)(x, y), frame.codes(Layer::steps)(x, y));
        ++hits;
      } else {
        EXPECT_EQ(normal, Vec3d(0, 0, 0));
        EXPECT_EQ(frame.codes(Layer::material)(x, y), no_material);
        // How near the ray passes, as often as it was asked there.
        const Vec3d nearest = Vec3d(0, -4, 0) + 4 * way.y() * way;
        EXPECT_GE(frame.values(Layer::nearest)(x, y), nearest.norm() - 1 - 1e-4);
        if (nearest.norm() < 1.05) {
          EXPECT_LT(frame.values(Layer::nearest)(x, y), 2 * (nearest.norm() - 1) + 0.02);
        }
      }
    }
  }
  EXPECT_GT(hits, 500);
}

TEST(FieldLayers, DifferencedNormalsComeNearTheExactOnes) {
  const Field shape = join(0.2, {sphere(0.8), place({0.6, -0.4, 0.2}, box({0.6, 0.6, 0.6}, 0.1))});
  Budget budget;
  const Frame exact = seen(shape, budget);
  budget.field.normals = FieldNormals::difference;
  const auto off = [&](double step) {
    budget.field.normal_step = step;
    const Frame differenced = seen(shape, budget);
    EXPECT_GT(differenced.tally.evaluations, exact.tally.evaluations);
    double sum = 0;
    for (int y = 0; y < 48; ++y) {
      for (int x = 0; x < 64; ++x) {
        for (int axis = 0; axis < 3; ++axis) {
          sum += std::abs(exact.values(Layer::normal, axis)(x, y) -
                          differenced.values(Layer::normal, axis)(x, y));
        }
      }
    }
    return sum / (64 * 48);
  };
  const double near = off(1e-3);
  EXPECT_LT(near, 2e-3);
  EXPECT_GT(off(0.1), 4 * near);
}

TEST(FieldLayers, ShowWhereAFieldChangesByMoreThanItSays) {
  const Frame lying = seen(function(ball(0.8, 1.6)));
  int over = 0;
  for (int y = 0; y < 48; ++y) {
    for (int x = 0; x < 64; ++x) over += static_cast<int>(lying.codes(Layer::overstretched)(x, y));
  }
  EXPECT_GT(over, 200);
}

}  // namespace
}  // namespace photonlane
