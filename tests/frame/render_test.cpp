#include "photonlane/frame/render.hpp"

#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/measure/difference.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using test::everything;
using test::hash_of;
using test::with_layers;
using ::testing::HasSubstr;

Budget sized(int width, int height, int samples = 1) {
  Budget budget;
  budget.frame = {width, height, samples};
  return budget;
}

/// A wide hall whose north wall is flat and far longer than the view.
struct Hall {
  World world = compile(test::drawn(test::square_room(60)));
  Camera camera{.eye = {30.5, 50.25, 1.3}, .heading = degrees(90), .field_of_view = degrees(40)};
};

TEST(Render, EveryPixelOfARoomIsWhatGeometrySays) {
  // Straight ahead a wall at y = 61, floor at 0, ceiling at 3: each pixel by hand.
  Hall hall;
  hall.camera.heading = degrees(78);
  const Size size{320, 200};
  const Frame frame =
      render(hall.world, hall.camera, sized(size.width, size.height), with_layers(everything));
  const double focal = 100 / std::tan(degrees(20));
  const auto depth = frame.values(Layer::depth);
  const auto distance = frame.values(Layer::ray_distance);
  const auto face = frame.codes(Layer::face);
  for (int y = 0; y < size.height; ++y) {
    for (int x = 0; x < size.width; ++x) {
      // The ray's direction per unit of depth.
      const double u = (x + 0.5 - 160) / focal;
      const double v = (100 - (y + 0.5)) / focal;
      const double dx = std::cos(degrees(78)) + u * std::sin(degrees(78));
      const double dy = std::sin(degrees(78)) - u * std::cos(degrees(78));
      const double to_wall = std::min((61 - 50.25) / dy, dx > 0 ? (61 - 30.5) / dx : 1e9);
      const double to_level = v < 0 ? 1.3 / -v : (3 - 1.3) / v;
      const double expected = std::min(to_wall, to_level);
      EXPECT_NEAR(depth(x, y), expected, 2e-5 * expected);
      EXPECT_NEAR(distance(x, y), expected * std::sqrt(1 + u * u + v * v), 3e-5 * expected);
      if (std::abs(to_wall - to_level) < 1e-3) continue;
      const Face seen = to_wall < to_level ? Face::south : v < 0 ? Face::floor : Face::ceiling;
      EXPECT_EQ(static_cast<Face>(face(x, y)), seen) << x << ", " << y;
    }
  }
}

TEST(Render, ColorsAreBaseFacesShadedAndFogByDistance) {
  Scene scene = test::drawn(test::square_room(60));
  scene.room().cell_map().face_shade = 0.5;
  scene.room().fog = {.color = {0.9f, 0.1f, 0.4f}, .start = 6, .end = 20};
  const World world = compile(scene);
  const Camera camera{
      .eye = {31.5, 50.25, 1.3}, .heading = degrees(60), .field_of_view = degrees(75)};
  const Frame frame = render(world, camera, sized(300, 200), with_layers(everything));
  for (int y = 0; y < 200; ++y) {
    for (int x = 0; x < 300; ++x) {
      Color base = scene.materials[0].base;
      const auto face = static_cast<Face>(frame.codes(Layer::face)(x, y));
      if (face == Face::floor) base = scene.room().floor.base;
      if (face == Face::ceiling) base = scene.room().ceiling.base;
      if (face == Face::south || face == Face::north) base *= 0.5f;
      const float share = fog_share(scene.room().fog, frame.values(Layer::ray_distance)(x, y));
      const Color expected = base + (scene.room().fog.color - base) * share;
      for (int channel = 0; channel < 3; ++channel) {
        const float value = frame.values(Layer::color, channel)(x, y);
        ASSERT_NEAR(value, expected[channel], 2e-6) << x << ", " << y;
        ASSERT_GE(value, 0);
        ASSERT_LE(value, 1);
      }
    }
  }
}

TEST(Render, PlanarProjectionKeepsAStraightWallStraight) {
  for (const double field : {30.0, 90.0, 150.0}) {
    // Looking at a long wall aslant: its upper edge must be a straight line of the picture.
    const World world = compile(test::drawn(test::square_room(400)));
    const Camera camera{.eye = {200.5, 381, 1.5},
                        .heading = degrees(75),
                        .field_of_view = degrees(field),
                        .field_axis = FieldAxis::horizontal};
    const Size size{601, 401};
    const Frame frame =
        render(world, camera, sized(size.width, size.height), with_layers({Layer::face}));
    const auto face = frame.codes(Layer::face);
    std::vector<std::pair<double, double>> edge;
    for (int x = 0; x < size.width; ++x) {
      int y = 0;
      while (y < size.height && static_cast<Face>(face(x, y)) == Face::ceiling) ++y;
      if (y > 0 && y < size.height && static_cast<Face>(face(x, y)) == Face::south) {
        edge.emplace_back(x + 0.5, y);
      }
    }
    ASSERT_GT(edge.size(), 100u);
    // The line by its exact end points: the edge's height is linear in the column.
    const double half = std::tan(degrees(field) / 2);
    const double focal = size.width / (2 * half);
    const auto exact = [&](double x) {
      const double u = (x - size.width / 2.0) / focal;
      const double forward = std::sin(degrees(75)) - u * std::cos(degrees(75));
      return size.height / 2.0 - focal * 1.5 * forward / (401 - 381.0);
    };
    for (const auto& [x, y] : edge) {
      EXPECT_NEAR(y, exact(x), 0.5 + 1e-3) << field;
      const double share = (x - edge.front().first) / (edge.back().first - edge.front().first);
      const double line =
          exact(edge.front().first) * (1 - share) + exact(edge.back().first) * share;
      EXPECT_NEAR(exact(x), line, 1e-9);
    }
  }
}

TEST(Render, CylindricalHeightsFollowThePlanDistance) {
  Hall hall;
  hall.camera.projection = Projection::cylindrical;
  hall.camera.field_axis = FieldAxis::horizontal;
  hall.camera.field_of_view = degrees(100);
  const Frame frame =
      render(hall.world, hall.camera, sized(500, 300), with_layers({Layer::face, Layer::depth}));
  const double focal = 500 / degrees(100);
  for (int x = 0; x < 500; ++x) {
    const double angle = (x + 0.5 - 250) / focal;
    const double plan = (61 - 50.25) / std::cos(angle);
    const double bottom = 150 + focal * 1.3 / plan;
    int y = 299;
    while (static_cast<Face>(frame.codes(Layer::face)(x, y)) == Face::floor) --y;
    EXPECT_NEAR(y + 1, bottom, 0.5 + 1e-3) << x;
    EXPECT_NEAR(frame.values(Layer::depth)(x, 150), plan * std::cos(angle), 1e-4);
  }
}

TEST(Render, FloorCeilingAndTheOpenMeetAtTheHorizonWithoutALine) {
  Scene scene = test::drawn("...\n...\n...");
  const World world = compile(scene);
  const Camera camera{.eye = {1.5, 1.5, 1.6}, .heading = 0.3};
  for (const int height : {400, 401}) {
    const Frame frame = render(world, camera, sized(64, height), with_layers({Layer::color}));
    for (int channel = 0; channel < 3; ++channel) {
      const auto color = frame.values(Layer::color, channel);
      for (int x = 0; x < 64; ++x) {
        EXPECT_NEAR(color(x, height / 2), scene.room().fog.color[channel], 1e-6);
        for (int y = 1; y < height; ++y) {
          EXPECT_LT(std::abs(color(x, y) - color(x, y - 1)), 0.02) << y;
        }
      }
    }
  }
}

TEST(Render, AnEyeInsideAWallSeesThatWallEverywhere) {
  const World world = compile(test::drawn(test::square_room(4)));
  const Camera camera{.eye = {0.5, 2.5, 1.6}};
  const Frame frame = render(world, camera, sized(33, 21), with_layers(everything));
  for (int y = 0; y < 21; ++y) {
    for (int x = 0; x < 33; ++x) {
      EXPECT_EQ(static_cast<Face>(frame.codes(Layer::face)(x, y)), Face::inside);
      EXPECT_EQ(frame.values(Layer::depth)(x, y), 0);
      EXPECT_FLOAT_EQ(frame.values(Layer::color, 0)(x, y), 0.5f);
    }
  }
}

TEST(Render, AWallAtNoDistanceFillsTheFrame) {
  // The eye stands exactly on the face of the east wall and looks into it, and past it.
  const World world = compile(test::drawn(test::square_room(4)));
  const Frame into =
      render(world, Camera{.eye = {5 - 1e-7, 2.5, 1.6}}, sized(40, 30), with_layers(everything));
  for (int y = 0; y < 30; ++y) {
    for (int x = 0; x < 40; ++x) EXPECT_LT(into.values(Layer::depth)(x, y), 1e-3);
  }
  const Frame away = render(world, Camera{.eye = {1, 2.5, 1.6}, .heading = degrees(0)},
                            sized(41, 31), with_layers(everything));
  EXPECT_NEAR(away.values(Layer::depth)(20, 15), 4, 1e-6);
}

TEST(Render, SpentLanesAreShownAndNeverFaded) {
  Scene scene = test::drawn("...\n...\n...");
  scene.room().cell_map().repeat = true;
  Budget budget = sized(80, 60);
  budget.cells.method = CellMethod::boundary;
  budget.cells.steps = 40;
  const Frame frame =
      render(compile(scene), Camera{.eye = {1.5, 1.5, 1.6}}, budget, with_layers(everything));
  EXPECT_EQ(frame.tally.spent, 80u);
  EXPECT_EQ(frame.tally.steps, 80u * 40u);
  for (int x = 0; x < 80; ++x) {
    EXPECT_EQ(static_cast<Ending>(frame.codes(Layer::ending)(x, 30)), Ending::spent);
    EXPECT_EQ(frame.values(Layer::depth)(x, 30), std::numeric_limits<float>::infinity());
    for (int channel = 0; channel < 3; ++channel) {
      EXPECT_EQ(frame.values(Layer::color, channel)(x, 30), spent_color[channel]);
    }
    // In front of where the budget ran out the floor is seen all the same.
    EXPECT_EQ(static_cast<Face>(frame.codes(Layer::face)(x, 59)), Face::floor);
  }
}

TEST(Render, TheSameBytesForAnyNumberOfThreadsAndAnyVectorWidth) {
  const CellMap map = test::random_map(90, 70, 0.05, 3, true);
  Scene scene;
  scene.wall({.base = {0.4f, 0.5f, 0.1f}});
  scene.room().add(map);
  scene.room().cell_map().at(45, 35) = empty_cell;
  const World world = compile(scene);
  const Camera camera{.eye = {45.4, 35.7, 1.2}, .heading = 1};
  for (const NumberType number : {NumberType::float32, NumberType::float64}) {
    for (const int samples : {1, 5}) {
      Budget budget = sized(333, 111, samples);
      budget.number = number;
      std::vector<std::uint64_t> expected;
      const auto hashes = [&](int threads) {
        const Frame frame = render(world, camera, budget, with_layers(everything, threads));
        std::vector<std::uint64_t> result;
        for (const Layer layer : everything.list()) {
          result.push_back(hash_of(frame, layer));
        }
        return result;
      };
      expected = hashes(1);
      for (const int threads : {0, 2, 3, 16}) EXPECT_EQ(hashes(threads), expected) << threads;
      test::for_each_target([&](const char* name) { EXPECT_EQ(hashes(2), expected) << name; });
    }
  }
}

TEST(Render, PicturesCanBeCheckedByHash) {
  // A golden picture: the same on every machine, because the kernels' arithmetic is.
  Hall hall;
  const Frame frame = render(hall.world, hall.camera, sized(128, 80, 2), with_layers(everything));
  EXPECT_EQ(hash_of(frame, Layer::display), 14860320159398937343u);
  EXPECT_EQ(hash_of(frame, Layer::depth), 4802889415244728678u);
}

TEST(Render, LayersComeAloneOrTogetherAlike) {
  Hall hall;
  const Budget budget = sized(200, 100, 4);
  const Frame all = render(hall.world, hall.camera, budget, with_layers(everything));
  for (const Layer layer : everything.list()) {
    const Frame one = render(hall.world, hall.camera, budget, with_layers({layer}));
    EXPECT_EQ(hash_of(one, layer), hash_of(all, layer)) << name_of(layer);
    EXPECT_EQ(one.has(Layer::color), layer == Layer::color);
    if (layer != Layer::color) {
      EXPECT_THROW(one.values(Layer::color), Error);
    }
  }
  EXPECT_THROW(all.codes(Layer::color), Error);
  EXPECT_THROW(all.values(Layer::color, 3), Error);
  EXPECT_EQ(render(hall.world, hall.camera, budget, with_layers({})).tally.hits, 200u);
}

TEST(Render, DisplayIsTheColorLayerEncodedAndDithered) {
  Hall hall;
  Frame frame = render(hall.world, hall.camera, sized(253, 97, 3), with_layers({Layer::color}));
  const Frame both = render(hall.world, hall.camera, sized(253, 97, 3),
                            with_layers({Layer::color, Layer::display}));
  encode_display(frame);
  EXPECT_EQ(hash_of(frame, Layer::display), hash_of(both, Layer::display));
  EXPECT_GT(frame.cost.encode_ms, 0);
  double sum = 0;
  for (int y = 0; y < 97; ++y) {
    for (int x = 0; x < 253; ++x) {
      const std::uint32_t packed = frame.codes(Layer::display)(x, y);
      for (int channel = 0; channel < 3; ++channel) {
        const double exact = 255 * to_display(frame.values(Layer::color, channel)(x, y));
        const double byte = (packed >> (8 * channel)) & 255;
        ASSERT_LT(std::abs(byte - exact), 1.1);
        sum += byte - exact;
      }
      ASSERT_EQ(packed >> 24, 255u);
    }
  }
  EXPECT_NEAR(sum / (3 * 97 * 253), 0, 0.09) << "the dither is fair, up to the fit";
}

TEST(Render, EncodingCoversEveryLevelAndClampsTheRest) {
  Frame frame({4096, 3}, {Layer::color});
  for (int channel = 0; channel < 3; ++channel) {
    const auto color = frame.values(Layer::color, channel);
    for (int x = 0; x < 4096; ++x) {
      color(x, 0) = static_cast<float>(x) / 4095;
      color(x, 1) = x % 2 == 0 ? 1.0f : 0.0f;
      color(x, 2) = x % 3 == 0 ? -5.0f : x % 3 == 1 ? 7.0f : std::nanf("");
    }
  }
  encode_display(frame);
  for (int x = 0; x < 4096; ++x) {
    const auto byte = [&](int y) { return frame.codes(Layer::display)(x, y) & 255; };
    // Within a step of dither and a tenth of a step of the fit.
    EXPECT_NEAR(byte(0), 255 * to_display(static_cast<float>(x) / 4095), 1.1);
    EXPECT_EQ(byte(1), x % 2 == 0 ? 255u : 0u) << "black and white stay what they are";
    if (x % 3 != 2) {
      EXPECT_EQ(byte(2), x % 3 == 0 ? 0u : 255u);
    }
  }
}

TEST(Render, SamplesSmoothEdgesTowardTheTrueCoverage) {
  // The error against a picture of very many samples falls as samples grow.
  const World world = compile(test::drawn("########\n#......#\n#.#.A..#\n#......#\n########"));
  const Camera camera{.eye = {1.4, 1.3, 1.2}, .heading = degrees(21)};
  const Frame truth = render(world, camera, sized(160, 100, 256));
  double last = 1;
  for (const int samples : {1, 4, 16, 64}) {
    const double error = compare(render(world, camera, sized(160, 100, samples)), truth).rmse;
    EXPECT_LT(error, 0.7 * last) << samples;
    last = error;
  }
  EXPECT_LT(last, 0.003);
}

TEST(Render, DataLayersSitAtThePixelsCenterWhateverTheSamples) {
  Hall hall;
  const LayerSet data{Layer::depth, Layer::face, Layer::cell, Layer::steps, Layer::ending};
  const Frame one = render(hall.world, hall.camera, sized(99, 55, 1), with_layers(data));
  const Frame many = render(hall.world, hall.camera, sized(99, 55, 6), with_layers(data));
  for (const Layer layer : {Layer::depth, Layer::face, Layer::cell, Layer::steps, Layer::ending}) {
    EXPECT_EQ(hash_of(one, layer), hash_of(many, layer));
  }
}

TEST(Render, LeapAndBoundaryMakeTheSamePicture) {
  Scene scene;
  scene.wall({});
  scene.room().add(test::random_map(300, 300, 0.003, 8, true));
  scene.room().cell_map().at(150, 150) = empty_cell;
  const World world = compile(scene);
  const Camera camera{.eye = {150.5, 150.5, 1}, .heading = 2};
  Budget leap = sized(640, 60);
  Budget boundary = leap;
  boundary.cells.method = CellMethod::boundary;
  const Frame a = render(world, camera, leap, with_layers(everything));
  const Frame b = render(world, camera, boundary, with_layers(everything));
  for (const Layer layer : {Layer::color, Layer::depth, Layer::cell, Layer::face}) {
    EXPECT_EQ(hash_of(a, layer), hash_of(b, layer));
  }
  EXPECT_LT(a.tally.steps * 3, b.tally.steps);
}

TEST(Render, ReportsProgressAndStopsWhenAsked) {
  Hall hall;
  RenderOptions options = with_layers({Layer::color});
  double last = 0;
  int calls = 0;
  options.progress = [&](double share) {
    EXPECT_GT(share, last);
    last = share;
    ++calls;
    return true;
  };
  render(hall.world, hall.camera, sized(600, 400), options);
  EXPECT_DOUBLE_EQ(last, 1);
  EXPECT_GT(calls, 10);
  calls = 0;
  options.progress = [&](double) { return ++calls < 4; };
  try {
    render(hall.world, hall.camera, sized(600, 400), options);
    FAIL() << "was not stopped";
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::cancelled);
  }
  EXPECT_LT(calls, 20);
}

TEST(Render, UsesTheMemoryOfAFrameNoLongerNeeded) {
  Hall hall;
  Frame first = render(hall.world, hall.camera, sized(500, 300));
  const float* memory = first.values(Layer::color).data;
  const std::uint64_t hash = hash_of(first, Layer::color);
  RenderOptions options;
  options.recycle = std::move(first);
  const Frame second = render(hall.world, hall.camera, sized(500, 300), std::move(options));
  EXPECT_EQ(second.values(Layer::color).data, memory);
  EXPECT_EQ(hash_of(second, Layer::color), hash);
}

TEST(Render, UsesFramesAgainThatHaveGivenTheirMemoryAway) {
  // As of a frame whose successor was stopped.
  Hall hall;
  Frame given = render(hall.world, hall.camera, sized(500, 300));
  const std::uint64_t hash = hash_of(given, Layer::color);
  const Frame taken = std::move(given);
  RenderOptions options;
  options.recycle = std::move(given);  // NOLINT(bugprone-use-after-move)
  const Frame second = render(hall.world, hall.camera, sized(500, 300), std::move(options));
  ASSERT_NE(second.values(Layer::color).data, nullptr);
  EXPECT_EQ(hash_of(second, Layer::color), hash);
  EXPECT_EQ(hash_of(taken, Layer::color), hash);
}

std::string refusal(const World& world, const Camera& camera, const Budget& budget) {
  try {
    render(world, camera, budget);
  } catch (const Error& error) {
    return error.what();
  }
  return "accepted";
}

TEST(Render, RefusesWhatCannotBeMade) {
  const Hall hall;
  Camera camera = hall.camera;
  EXPECT_THAT(
      refusal(hall.world, camera, sized(100000, 100000)),
      HasSubstr("100000x100000 pixels needs 111.8 GiB for its layers, the limit is 8.0 GiB"));
  EXPECT_THAT(refusal(hall.world, camera, sized(0, 10)), HasSubstr("frame.width: found '0'"));
  EXPECT_THAT(refusal(hall.world, camera, sized(10, -1)), HasSubstr("frame.height: found '-1'"));
  camera.eye.z() = 0;
  EXPECT_THAT(refusal(hall.world, camera, sized(10, 10)), HasSubstr("height 0 is not between"));
  camera.eye.z() = 3;
  EXPECT_THAT(refusal(hall.world, camera, sized(10, 10)), HasSubstr("height 3 is not between"));
  camera.eye.z() = std::nan("");
  EXPECT_THAT(refusal(hall.world, camera, sized(10, 10)), HasSubstr("camera.eye"));
  camera = hall.camera;
  camera.eye.x() = 9e6;
  Budget budget = sized(10, 10);
  EXPECT_THAT(refusal(hall.world, camera, budget), HasSubstr("set number to double"));
  budget.number = NumberType::float64;
  EXPECT_EQ(refusal(hall.world, camera, budget), "accepted");
}

TEST(Compile, RefusesScenesThatCannotBeTraced) {
  Scene scene = test::drawn("##\n##");
  EXPECT_NO_THROW(compile(scene));
  EXPECT_THROW(Scene(scene).room().add(scene.room().cell_map()), Error) << "a second map";
  Scene none;
  EXPECT_THROW(compile(none), Error);
  Scene missing = scene;
  missing.materials.clear();
  EXPECT_THROW(compile(missing), Error);
  Scene fog = scene;
  fog.room().fog.end = fog.room().fog.start;
  EXPECT_THROW(compile(fog), Error);
  Scene bright = scene;
  bright.materials[0].base[1] = 1.5f;
  EXPECT_THROW(compile(bright), Error);
}

TEST(Render, TheSmallestAndTheOddestFrames) {
  const World world = compile(test::drawn("#"));
  const Frame one =
      render(world, Camera{.eye = {-3, 0.5, 1}}, sized(1, 1), with_layers(everything));
  EXPECT_NEAR(one.values(Layer::depth)(0, 0), 3, 1e-6);
  for (const Size size : {Size{1, 500}, Size{700, 1}, Size{17, 3}, Size{513, 17}}) {
    const Frame frame = render(world, Camera{.eye = {-3, 0.5, 1}},
                               sized(size.width, size.height, 2), with_layers(everything));
    EXPECT_EQ(frame.size(), size);
    EXPECT_EQ(frame.values(Layer::color).row(size.height - 1).size(),
              static_cast<std::size_t>(size.width));
  }
}

}  // namespace
}  // namespace photonlane
