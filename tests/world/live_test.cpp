// Worlds that change from frame to frame: made from the one before they are what compiling anew
// makes, and share what did not change.

#include <gmock/gmock.h>

#include <set>
#include <string>

#include "photonlane/base/random.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

constexpr const char* garden = R"(
numbers: {height: 1.2, lean: 10}
camera: {eye: [0.5, -5, 1.4], look_at: [0, 0, 0.6], room: yard}
textures:
  bark: {pattern: planks, width: 32, height: 32}
  moss: {pattern: leaf, width: 32, height: 32}
materials:
  bark: {texture: bark}
  moss: {texture: moss}
  glass: {opacity: 0.1, index: 1.5, specular: 0.04}
rooms:
  yard:
    light: {ambient: [0.4, 0.42, 0.5], sun: {heading: 230, elevation: 30}, lamps: [{place: [0, -2, 2.5]}]}
    solids:
      - field: {plane: {}, material: moss}
      - field: {material: bark, place: {at: [-1.4, 0, 0.8], of: {cylinder: {radius: 0.3, height: 1.6}}}}
      - field: {material: moss, place: {at: [1.4, 0, 0.7], turn: [$lean, 0, 0], of: {box: {size: [0.8, 0.8, $height]}}}}
      - field: {material: glass, place: {at: [0.6, -1, 0.4], of: {sphere: {radius: 0.3}}}}
      - spheres: {radius: 0.3, material: bark, at: [[0, 0, 0.3], {at: [0.5, 0.6, 0.3], material: glass}]}
    portals:
      - {at: [0, 2, 1], heading: 270, rectangle: {width: 1, height: 1.6}, to: {room: shed, at: [1.2, 1.5, 1.2], heading: 0}}
  shed:
    solids:
      - cells: {legend: {"#": bark, d: {material: moss, shape: sliding}}, map: "######\n#..d.#\n######"}
      - spheres: {radius: 0.2, at: [[2.5, 1.5, 1]]}
)";

std::string picture_of(const World& world, const io::SceneFile& file) {
  Budget budget{.frame = {64, 40, 1}};
  budget.bounces.limit = 2;
  const Frame frame = render(world, file.camera, budget,
                             test::with_layers({Layer::color, Layer::depth, Layer::material}));
  return std::to_string(test::hash_of(frame, Layer::color)) + " " +
         std::to_string(test::hash_of(frame, Layer::depth)) + " " +
         std::to_string(test::hash_of(frame, Layer::material));
}

/// One change of a scene, of many kinds.
void change(Scene& scene, const io::SceneFile& file, std::uint64_t number) {
  const RandomKey key{.seed = 3, .pixel = number};
  const double some = static_cast<double>(random_uniform(key, 0));
  Room& yard = scene.rooms[0];
  switch (random_below(key, 1, 12)) {
    case 0:
      yard.light.lamps.front().place.x() = 2 * some - 1;
      break;
    case 1:
      scene.materials[0].base = {static_cast<float>(some), 0.5f, 0.4f};
      break;
    case 2:
      // A material that bends light, or no longer.
      scene.materials[1].opacity = some < 0.5 ? 1 : 0.2f;
      scene.materials[1].index = some < 0.5 ? 1 : 1.3;
      break;
    case 3:
      yard.fields[1] = field::place({-1.4, 0, 0.5 + some}, field::cylinder(0.3, 1.6)).made_of(0);
      break;
    case 4:
      yard.fields.push_back(field::place({some, 0, 1.5}, field::torus(0.3, 0.1)).made_of(1));
      break;
    case 5:
      if (yard.fields.size() > 2) yard.fields.pop_back();
      break;
    case 6:
      yard.parts = {std::make_shared<const Spheres>(
          std::vector<Sphere>{{{some, 0, 0.3}, 0.3, 0}, {{-some, 0.7, 0.2}, 0.2, 2}}, 1)};
      break;
    case 7:
      if (!scene.rooms[1].cells->forms.empty()) {
        scene.rooms[1].cells->forms.front().opening = some;
      }
      break;
    case 8:
      yard.portals.front().stance.at.x() = some;
      break;
    case 9:
      scene.textures[0].at(3, 3) = pack_texel({static_cast<float>(some), 0, 0});
      break;
    case 10:
      scene.add_room("room " + std::to_string(number)).add(field::sphere(some + 0.1));
      break;
    default:
      scene = io::scene_with(file, {{"height", std::to_string(0.5 + some)}});
  }
}

TEST(LiveWorld, IsWhatCompilingAnewMakes) {
  const io::SceneFile file = io::parse_scene(garden, "garden.yaml");
  Scene scene = file.scene;
  World world = compile(scene);
  std::set<std::string> pictures;
  for (int i = 0; i < test::effort(80); ++i) {
    change(scene, file, static_cast<std::uint64_t>(i));
    world = compile(scene, world);
    const World anew = compile(scene);
    const std::string picture = picture_of(world, file);
    ASSERT_EQ(picture, picture_of(anew, file)) << "after change " << i;
    ASSERT_EQ(world.memory_bytes(), anew.memory_bytes()) << "after change " << i;
    pictures.insert(picture);
  }
  EXPECT_GT(pictures.size(), static_cast<std::size_t>(test::effort(80)) * 3 / 8) << "changes show";
}

TEST(LiveWorld, SharesWhatDidNotChange) {
  const io::SceneFile file = io::parse_scene(garden, "garden.yaml");
  const World before = compile(file.scene);
  Scene scene = file.scene;
  scene.rooms[0].light.sun->elevation = 0.3;
  scene.materials[0].base = {0.1f, 0.2f, 0.3f};
  const World lit = compile(scene, before);
  EXPECT_EQ(&lit.textures(), &before.textures());
  for (std::size_t r = 0; r < 2; ++r) EXPECT_EQ(lit.rooms()[r].solids, before.rooms()[r].solids);
  EXPECT_EQ(lit.room().near_field, before.room().near_field);

  // A number of the file: its field alone, with what is joined to it.
  const World other = compile(io::scene_with(file, {{"lean", "30"}}), before);
  EXPECT_EQ(&other.textures(), &before.textures());
  EXPECT_NE(other.room().solids[0], before.room().solids[0]);
  EXPECT_EQ(other.room().solids.back(), before.room().solids.back()) << "the spheres";
  EXPECT_EQ(other.rooms()[1].solids, before.rooms()[1].solids);

  // Texels that are changed are another texture; those they were copied from stay.
  scene.textures[1].at(0, 0) ^= 0xff;
  EXPECT_NE(scene.textures[1].texels, file.scene.textures[1].texels);
  EXPECT_NE(&compile(scene, before).textures(), &before.textures());
}

TEST(LiveWorld, TakesTheSceneOverWhatWasEdited) {
  const io::SceneFile file = io::parse_scene(garden, "garden.yaml");
  const World before = compile(file.scene);
  const CellEdit wall{.x = 2, .y = 1, .cell = wall_of(0)};
  const World edited = edit(before, {&wall, 1}, 1);
  EXPECT_EQ(edited.rooms()[1].cells()->map().at(2, 1), wall_of(0));
  const World again = compile(file.scene, edited);
  EXPECT_EQ(again.rooms()[1].cells()->map(), *file.scene.rooms[1].cells);
  // Errors leave the world before as it was, and any world may be the one before.
  Scene wrong = file.scene;
  wrong.materials[0].opacity = 2;
  EXPECT_THROW(compile(wrong, edited), Error);
  World moved = before;
  World gone = std::move(moved);
  EXPECT_EQ(picture_of(compile(file.scene, moved), file), picture_of(gone, file));  // NOLINT
  EXPECT_EQ(picture_of(compile(file.scene, compile(test::drawn("###\n#.#\n###"))), file),
            picture_of(gone, file));
}

TEST(LiveWorld, FilesReadAgainShareWhatTheySayAlike) {
  const io::SceneFile file = io::parse_scene(garden, "garden.yaml");
  const Scene other = io::scene_with(file, {{"height", "2"}});
  EXPECT_TRUE(other.textures[0].texels.shares(file.scene.textures[0].texels));
  const std::vector<Field>& was = file.scene.rooms[0].fields;
  const std::vector<Field>& now = other.rooms[0].fields;
  ASSERT_EQ(was.size(), now.size());
  for (std::size_t i = 0; i < was.size(); ++i) {
    EXPECT_EQ(was[i].identity() == now[i].identity(), i != 2) << i;
  }
  EXPECT_EQ(other.rooms[0].parts, file.scene.rooms[0].parts);
}

}  // namespace
}  // namespace photonlane
