#include <gmock/gmock.h>

#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using test::hash_of;
using ::testing::HasSubstr;

/// Distances of a solid and of a new compilation of its map.
void expect_like_new(const CellSolid& solid, std::uint64_t seed) {
  const CellSolid fresh(solid.map());
  for (int y = 0; y < solid.map().height; ++y) {
    for (int x = 0; x < solid.map().width; ++x) {
      ASSERT_EQ(solid.distance_at(x, y), fresh.distance_at(x, y)) << seed << ": " << x << ", " << y;
    }
  }
}

TEST(EditCells, RepairedDistancesEqualANewCompilation) {
  for (std::uint64_t seed = 0; seed < 60; ++seed) {
    const RandomKey key{.seed = 41, .pixel = seed};
    const int width = 1 + static_cast<int>(random_below(key, 0, 50));
    const int height = 1 + static_cast<int>(random_below(key, 1, 50));
    CellMap map = test::random_map(width, height, seed % 4 == 0 ? 0 : 0.02, seed, false);
    map.repeat = seed % 2 == 1;
    CellSolid solid(map);
    for (std::uint32_t i = 0; i < 25; ++i) {
      const RandomKey one{.seed = 42, .pixel = seed, .sample = i};
      const CellEdit edit{
          static_cast<int>(random_below(one, 0, static_cast<std::uint32_t>(width))),
          static_cast<int>(random_below(one, 1, static_cast<std::uint32_t>(height))),
          random_below(one, 2, 2) == 0 ? empty_cell : wall_of(0)};
      solid.edit({&edit, 1});
      ASSERT_EQ(solid.map().at(edit.x, edit.y), edit.cell);
      expect_like_new(solid, seed);
    }
  }
}

TEST(EditCells, WorksWhereDistancesAreAtTheirLimit) {
  CellMap map;
  map.width = map.height = 700;
  map.cells.assign(700 * 700, empty_cell);
  for (const bool repeat : {false, true}) {
    map.repeat = repeat;
    CellSolid solid(map);
    const CellEdit add{350, 340, wall_of(0)};
    solid.edit({&add, 1});
    expect_like_new(solid, 0);
    const CellEdit remove{350, 340, empty_cell};
    solid.edit({&remove, 1});
    expect_like_new(solid, 1);
  }
}

TEST(EditWorld, ShowsInTheNextFrameLikeANewCompilation) {
  Scene scene = test::drawn(test::square_room(30));
  World world = compile(scene);
  const Camera camera{.eye = {4.5, 15.5, 1.6}};
  const Budget budget{.frame = {160, 100, 1}};
  const auto picture = [&](const World& any) {
    return hash_of(render(any, camera, budget), Layer::color);
  };
  const std::uint64_t before = picture(world);
  const World kept = world;
  const CellEdit edits[] = {{10, 15, wall_of(1)}, {12, 18, wall_of(0)}, {31, 16, empty_cell}};
  world = edit(std::move(world), edits);
  for (const CellEdit& one : edits) scene.room().cell_map().at(one.x, one.y) = one.cell;
  EXPECT_NE(picture(world), before);
  EXPECT_EQ(picture(world), picture(compile(scene)));
  EXPECT_EQ(picture(kept), before) << "a world held elsewhere stays as it is";
  // And back again: the world is nobody else's now, so it is changed where it stands.
  const Solid* place = world.room().cells();
  const CellEdit back[] = {{10, 15, empty_cell}, {12, 18, empty_cell}, {31, 16, wall_of(0)}};
  world = edit(std::move(world), back);
  EXPECT_EQ(picture(world), before);
  EXPECT_EQ(world.room().cells(), place);
}

TEST(EditWorld, RefusesWhatIsNotThereAndChangesNothing) {
  const World world = compile(test::drawn("###\n#.#\n###"));
  const auto refusal = [&](const CellEdit& bad) -> std::string {
    const CellEdit edits[] = {{1, 1, wall_of(0)}, bad};
    try {
      edit(world, edits);
      return "accepted";
    } catch (const Error& error) {
      return error.what();
    }
  };
  EXPECT_THAT(refusal({3, 0, empty_cell}), HasSubstr("no cell at column 3, row 0 of a map of 3x3"));
  EXPECT_THAT(refusal({0, -1, empty_cell}), HasSubstr("no cell at"));
  EXPECT_THAT(refusal({0, 0, wall_of(2)}), HasSubstr("material 2, of which there are 2"));
  EXPECT_EQ(refusal({0, 0, wall_of(1)}), "accepted");
  EXPECT_EQ(hash_of(render(world, Camera{.eye = {1.5, 1.5, 1}}, Budget{.frame = {9, 9, 1}}),
                    Layer::color),
            hash_of(render(compile(test::drawn("###\n#.#\n###")), Camera{.eye = {1.5, 1.5, 1}},
                           Budget{.frame = {9, 9, 1}}),
                    Layer::color));
}

}  // namespace
}  // namespace photonlane
