// Voxels in scenes: pictures of them against pictures of the same cubes as fields, and everything
// else a solid of a room has to do; and the garden that is made up.

#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/paths.hpp"
#include "support/pictures.hpp"
#include "support/scenes.hpp"
#include "voxels/sources.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

/// A few cubes over a floor, as voxels or as boxes; none touches another.
DenseVoxels cubes(int seed) {
  VoxelPalette palette;
  palette.kinds = {{1, VoxelKind::no_color}, {2, VoxelKind::no_color}};
  DenseVoxels grid({7, 7, 5}, palette);
  for (int z = 0; z < 5; z += 2) {
    for (int y = 0; y < 7; y += 2) {
      for (int x = 0; x < 7; x += 2) {
        const RandomKey key{.seed = static_cast<std::uint64_t>(seed),
                            .pixel = static_cast<std::uint64_t>(x + 10 * y + 100 * z)};
        if (random_below(key, 0, 5) == 0) grid.at(x, y, z) = 1 + random_below(key, 1, 2);
      }
    }
  }
  return grid;
}

struct Standing {
  Vec3d at{-1.2, -0.9, 0.1};
  Vec3d turn{0, 0, 0};
  double cell = 0.35;
};

Scene yard(bool as_fields, const Material& of, int seed, const Standing& standing) {
  Scene scene;
  scene.materials = {{.base = {0.5f, 0.45f, 0.4f}}, of, {.base = {0.2f, 0.5f, 0.3f}}};
  Room& room = scene.room();
  room.light.ambient = {0.35f, 0.35f, 0.4f};
  room.light.sun.emplace();
  room.light.lamps.push_back({.place = {1, -1, 2.5}});
  room.sky.emplace();
  room.add(field::plane({0, 0, 1}, 0).made_of(0));
  const DenseVoxels source = cubes(seed);
  if (!as_fields) {
    Voxels part(VoxelGrid::make(source));
    part.at = standing.at;
    part.turn = standing.turn;
    part.cell = standing.cell;
    room.add(part);
    return scene;
  }
  for (int z = 0; z < 5; ++z) {
    for (int y = 0; y < 7; ++y) {
      for (int x = 0; x < 7; ++x) {
        const std::uint32_t value = source.at(x, y, z);
        if (value == 0) continue;
        const Vec3d middle = standing.cell * Vec3d(x + 0.5, y + 0.5, z + 0.5);
        room.add(field::place(standing.at,
                              field::place(middle, field::box(Vec3d::Constant(standing.cell))),
                              standing.turn)
                     .made_of(static_cast<int>(value)));
      }
    }
  }
  return scene;
}

double difference_of(const Material& of, Budget budget, const Standing& standing = {}) {
  const Size size{effort(160), effort(100)};
  budget.frame = {size.width, size.height, 1};
  budget.rays = Rays::pixels;
  budget.field.tolerance = 1e-6;
  budget.field.growth = 0;
  budget.field.steps = 2000;
  budget.number = NumberType::float64;
  const Camera camera = Camera::look_at({3.2, -3.1, 2.3}, {0, 0, 0.5}, 0.9);
  double worst = 0;
  for (int seed = 0; seed < 2; ++seed) {
    const auto shot = [&](bool as_fields) {
      return render(compile(yard(as_fields, of, seed, standing)), camera, budget,
                    with_layers({Layer::color, Layer::depth, Layer::normal, Layer::ending,
                                 Layer::material, Layer::face}));
    };
    const Frame voxels = shot(false);
    const Frame fields = shot(true);
    EXPECT_LT(surfaces_apart(voxels, fields, 5e-3), 16) << "silhouettes, " << seed;
    worst = std::max(worst, compare(voxels, fields).rmse);
  }
  return worst;
}

TEST(VoxelScenes, LookLikeTheSameCubesAsFields) {
  Budget plain;
  const Material red{.base = {0.8f, 0.3f, 0.2f}};
  EXPECT_LT(difference_of(red, plain), 4e-3);
  // Turned about all axes, and small.
  EXPECT_LT(difference_of(red, plain, {{-0.7, -1.1, 0.4}, {0.3, -0.2, 0.7}, 0.3}), 6e-3);
  Budget quick;
  quick.light.softness = Softness::quick;
  EXPECT_LT(difference_of(red, quick), 1e-2);
  EXPECT_LT(difference_of({.base = {0.8f, 0.3f, 0.2f}, .opacity = 0.4f}, plain), 1e-2);
  EXPECT_LT(difference_of({.base = {0.8f, 0.8f, 0.8f}, .specular = 0.6f, .metal = 1}, plain), 8e-3);
  Budget bounces;
  bounces.bounces.limit = 6;
  EXPECT_LT(difference_of({.opacity = 0.05f, .specular = 0.04f, .index = 1.5f}, bounces), 2e-2);
}

TEST(VoxelScenes, AreSeenThroughPortals) {
  Scene scene;
  scene.materials.push_back({.base = {0.9f, 0.2f, 0.1f}});
  scene.rooms.clear();
  for (const char* name : {"near", "far"}) {
    scene.add_room(name).add(field::plane({0, 0, 1}, 0).made_of(0));
  }
  Portal gate;
  gate.name = "gate";
  gate.stance = {.at = {2, 0, 1}, .heading = pi};
  gate.to = PortalTarget{.room = "far", .stance = {.at = {0, 0, 1}}};
  scene.rooms[0].portals.push_back(gate);
  DenseVoxels one({1, 1, 1}, kinds_of(1));
  one.at(0, 0, 0) = 1;
  Voxels cube(VoxelGrid::make(one));
  cube.at = {2, -0.25, 0.75};
  cube.cell = 0.5;
  scene.rooms[1].add(cube);
  const Frame frame =
      render(compile(scene), {.eye = {0, 0, 1}, .room = "near"}, Budget{.frame = {65, 49, 1}},
             with_layers({Layer::ray_distance, Layer::room, Layer::ending}));
  EXPECT_EQ(frame.codes(Layer::room)(32, 24), 1u);
  EXPECT_NEAR(frame.values(Layer::ray_distance)(32, 24), 2 + 2, 1e-3);
}

TEST(VoxelScenes, StopWhoWalksAndCarryWhoRolls) {
  DenseVoxels floor({40, 16, 4}, kinds_of(1));
  for (int y = 0; y < 16; ++y) {
    for (int x = 0; x < 40; ++x) {
      floor.at(x, y, 0) = 1;
      // A wall across.
      if (x == 30) floor.at(x, y, 1) = floor.at(x, y, 2) = floor.at(x, y, 3) = 1;
    }
  }
  Voxels part(VoxelGrid::make(floor));
  part.at = {-2, -4, -0.5};
  part.cell = 0.5;
  Scene scene;
  scene.materials.push_back({});
  scene.room().add(part);
  WalkScript script;
  script.radius = 0.25;
  script.moves.push_back({.forward = 20, .over = 4});
  const auto steps = walk(compile(scene), {.eye = {0, 0, 1.6}}, script);
  EXPECT_NEAR(steps.back().place.x(), 30 * 0.5 - 2 - 0.25, 0.02);
  RoomBody ball;
  ball.body.balls = {{{0, 0, 0}, 0.3}};
  ball.body.place = {2, 0, 1};
  scene.room().bodies.push_back(ball);
  roll_bodies(scene, 0, 4);
  EXPECT_NEAR(scene.room().bodies.front().body.place.z(), 0.3, 2e-3);
}

TEST(VoxelScenes, AreCheckedAndDrawn) {
  Scene scene;
  scene.materials.push_back({.base = {1, 0, 0}});
  VoxelPalette red;
  red.kinds.push_back({0, VoxelKind::no_color});
  DenseVoxels block({4, 2, 4}, red);
  std::fill(block.cells.begin(), block.cells.end(), 1u);
  Voxels part(VoxelGrid::make(block));
  part.at = {-1, -0.5, 0};
  part.cell = 0.5;
  scene.room().add(part);
  const Camera camera{.eye = {0, -3, 1}};
  const SceneReport report = check(scene, camera, Budget{});
  EXPECT_THAT(report.solids, testing::ElementsAre(HasSubstr("32 voxels of 0.5 m in 4 x 2 x 4")));
  EXPECT_THAT(report.warnings, testing::IsEmpty());
  Camera inside = camera;
  inside.eye = {0.1, 0, 1};
  EXPECT_THAT(check(scene, inside, Budget{}).warnings,
              testing::Contains(HasSubstr("is inside of 32 voxels")));
  const io::Picture plan = io::plan_picture(scene, compile(scene), camera, Budget{}, {300, 200},
                                            {.rays = 0, .legend = false});
  long area = 0;
  int left = 300, right = 0, top = 200, bottom = 0;
  for (int y = 0; y < 200; ++y) {
    for (int x = 0; x < 300; ++x) {
      const auto* pixel = plan.pixel(x, y);
      if (pixel[0] < 200 || pixel[1] > 60 || pixel[2] > 60) continue;
      ++area;
      left = std::min(left, x);
      right = std::max(right, x + 1);
      top = std::min(top, y);
      bottom = std::max(bottom, y + 1);
    }
  }
  // Two by one meters, all of it red.
  EXPECT_GT(area, 1000);
  EXPECT_NEAR(static_cast<double>(right - left) / (bottom - top), 2, 0.1);
  EXPECT_NEAR(static_cast<double>(area), (right - left) * (bottom - top),
              0.04 * static_cast<double>(area));

  scene.room().parts.clear();
  scene.room().add(Voxels(VoxelEditor({3, 3, 3}, kinds_of(1)).grid()));
  EXPECT_THAT(check(scene, camera, Budget{}).warnings,
              testing::Contains(HasSubstr("a grid without voxels")));
}

TEST(VoxelScenes, LightWhatIsAroundThem) {
  // A cube that emits over a floor: as a voxel, whose light is sought, and as a field's box, which
  // is found by chance.
  const auto light = [](bool voxels, int samples) {
    Scene scene;
    scene.materials = {{.base = {0.8f, 0.8f, 0.8f}}, {.base = {0, 0, 0}, .emission = {4, 4, 4}}};
    empty_air(scene.room());
    scene.room().add(field::plane({0, 0, 1}, 0).made_of(0));
    if (voxels) {
      VoxelPalette palette;
      palette.kinds.push_back({1, VoxelKind::no_color});
      DenseVoxels one({2, 2, 2}, palette);
      std::fill(one.cells.begin(), one.cells.end(), 1u);
      Voxels part(VoxelGrid::make(one));
      part.at = {-0.5, 0.5, 0.7};
      part.cell = 0.5;
      scene.room().add(part);
    } else {
      scene.room().add(field::place({0, 1, 1.2}, field::box({1, 1, 1})).made_of(1));
    }
    return mean_radiance(
        path_frame(scene, pinhole({0, -1, 1}, {0, 0, 0}), path_budget(16, 8, samples / 128, 1)));
  };
  const auto sought = light(true, effort(40000));
  const auto chance = light(false, effort(400000));
  EXPECT_GT(sought.value, 0.05);
  EXPECT_NEAR(sought.value, chance.value, 5 * std::hypot(sought.error, chance.error));
  // With a tenth of the samples, and less noise for each.
  EXPECT_LT(sought.error, chance.error * std::sqrt(10.0));
}

TEST(VoxelScenes, ConvergeWithTheirDetail) {
  Scene scene;
  scene.room().fog = {.color = {0, 0, 0}, .start = 1e6, .end = 2e6};
  scene.room().add(Voxels(VoxelGrid::make(TerraceSource({.side = 256, .height = 96}))));
  const World world = compile(scene);
  const Camera camera = Camera::look_at({20, -300, 220}, {128, 128, 30}, degrees(40));
  const auto frame = [&](double detail) {
    Budget budget;
    budget.frame = {96, 60, 4};
    budget.voxels.detail = detail;
    return render(world, camera, budget, {});
  };
  const Frame exact = frame(0);
  EXPECT_EQ(compare(frame(1e-3), exact).rmse, 0);
  const double fine = compare(frame(1), exact).rmse;
  const double rough = compare(frame(8), exact).rmse;
  EXPECT_LE(fine, rough);
  EXPECT_GT(rough, 0);
  // Far coarser, and as bright as it was.
  EXPECT_LT(rough, 0.2);
  double bright[2] = {0, 0};
  const Frame coarse = frame(8);
  for (int y = 0; y < 60; ++y) {
    for (int x = 0; x < 96; ++x) {
      bright[0] += static_cast<double>(exact.values(Layer::color, 1)(x, y));
      bright[1] += static_cast<double>(coarse.values(Layer::color, 1)(x, y));
    }
  }
  EXPECT_NEAR(bright[1] / bright[0], 1, 0.1);
  EXPECT_LT(coarse.tally.steps, exact.tally.steps);
}

TEST(VoxelScenes, AreSmoothWhereThatIsAsked) {
  // A large ball: normals are nearly those of the ball, and never face away from the lane.
  VoxelEditor editor({64, 64, 64}, kinds_of(1));
  editor.fill_ball({32, 32, 32}, 28, 1);
  Voxels part(editor.grid());
  part.normals = VoxelNormals::smooth;
  const auto solid = part.compile({});
  LaneBatch<double> lanes;
  lanes.size = lanes.capacity;
  lanes.far_limit = 1000;
  double off = 0;
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const RandomKey key{.seed = 3, .pixel = i};
    const double angle = 2 * pi * static_cast<double>(random_uniform(key, 0));
    const double away = 20 * std::sqrt(static_cast<double>(random_uniform(key, 1)));
    lanes.x[i] = 32 + away * std::cos(angle);
    lanes.y[i] = -50;
    lanes.z[i] = 32 + away * std::sin(angle);
    lanes.direction_y[i] = 1;
  }
  const HitBatch<double> hits = solid->nearest_hit(lanes, {});
  for (std::size_t i = 0; i < lanes.size; ++i) {
    ASSERT_EQ(hits.ending[i], Ending::hit);
    const Vec3d normal(hits.normal_x[i], hits.normal_y[i], hits.normal_z[i]);
    EXPECT_NEAR(normal.norm(), 1, 1e-5);
    EXPECT_LE(normal.y(), 0);
    const Vec3d ball =
        Vec3d(lanes.x[i] - 32, lanes.y[i] + hits.t[i] - 32, lanes.z[i] - 32).normalized();
    off += std::acos(std::clamp(normal.dot(ball), -1.0, 1.0)) / static_cast<double>(lanes.size);
  }
  EXPECT_LT(off, degrees(9));
}

TEST(Terraces, AreTheSameEachTimeAndHaveWhatTheySay) {
  const TerraceRecipe recipe{.side = 160, .height = 110, .seed = 4};
  const TerraceSource source(recipe, 0, 1);
  const auto grid = VoxelGrid::make(source, {.shared = false, .threads = 1, .progress = {}});
  const auto again =
      VoxelGrid::make(TerraceSource(recipe, 0, 1), {.shared = true, .threads = 2, .progress = {}});
  const auto other = VoxelGrid::make(TerraceSource({.side = 160, .height = 110, .seed = 5}, 0, 1));
  std::uint64_t different = 0;
  for (int z = 0; z < 110; z += 3) {
    for (int y = 0; y < 160; ++y) {
      for (int x = 0; x < 160; ++x) {
        ASSERT_EQ(grid->at({x, y, z}), again->at({x, y, z}));
        different += grid->at({x, y, z}) != other->at({x, y, z}) ? 1 : 0;
      }
    }
  }
  EXPECT_GT(different, 10000u);
  const auto material_at = [&](const Vec3d& place) {
    const std::uint32_t value = grid->at(
        {static_cast<int>(place.x()), static_cast<int>(place.y()), static_cast<int>(place.z())});
    return value == 0 ? -2 : grid->palette().kinds[value - 1].material;
  };
  ASSERT_FALSE(source.lanterns().empty());
  for (const Vec3d& lantern : source.lanterns()) EXPECT_EQ(material_at(lantern), 0);
  for (int y = 0; y < 160; y += 7) {
    for (int x = 0; x < 160; x += 7) {
      EXPECT_NE(grid->at({x, y, source.ground(x, y) - 1}), 0u);
      EXPECT_NE(grid->at({x, y, 0}), 0u) << "the bottom is closed";
    }
  }
  // What a source knows of cubes is what it reads.
  std::vector<std::uint32_t> values(VoxelSource::block);
  int known = 0;
  for (int z = 0; z < 112; z += 16) {
    for (int y = 0; y < 160; y += 16) {
      for (int x = 0; x < 160; x += 16) {
        const auto value = source.known({{x, y, z}, {x + 16, y + 16, z + 16}});
        if (!value) continue;
        ++known;
        source.read({x, y, z}, values.data());
        for (int k = 0; k < 16 * 16 * 16; ++k) {
          if (z + k / 256 < 110) ASSERT_EQ(values[static_cast<std::size_t>(k)], *value);
        }
      }
    }
  }
  EXPECT_GT(known, 20);
  // Without plants nothing grows; without caves the hill is full.
  const TerraceSource bare({.side = 96, .height = 96, .plants = 0, .caves = 0});
  const auto hill = VoxelGrid::make(bare);
  for (int y = 0; y < 96; y += 3) {
    for (int x = 0; x < 96; x += 3) {
      for (int z = 0; z < bare.ground(x, y); ++z) ASSERT_NE(hill->at({x, y, z}), 0u);
    }
  }
}

}  // namespace
}  // namespace photonlane
