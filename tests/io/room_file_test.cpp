#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"

namespace photonlane::io {
namespace {

using testing::HasSubstr;

const std::string two_rooms = R"(title: two
camera: {room: hall, eye: [0, 0, 1.6]}
materials:
  stone: {base: [0.5, 0.4, 0.3]}
rooms:
  hall:
    portals:
      - name: door
        rectangle: {width: 1.2, height: 2.2}
        at: [2, 0, 1.1]
        heading: 180
        rim: 0.05
        rim_color: [0.2, 0.1, 0]
        fallback: [0.1, 0.2, 0.3]
        behind: shut
        to: {room: garden, at: [1, 2, 3], heading: 90, scale: 0.5}
      - polygon: {corners: [[-1, -1], [1, -1], [0, 1]]}
        at: [0, 4, 1]
        one_way: true
        to: {portal: pond}
    swells:
      - {at: [5, 0, 1], radius: 2, axis: [0, 1, 0], stretch: 3}
    solids:
      - field: {plane: {}, material: stone}
  garden:
    portals:
      - name: pond
        disc: {radius: 1}
        at: [7, 7, 0.1]
        pitch: 90
      - name: tunnel
        box: {size: [4, 1, 2], sides: [front, back]}
        stretch: [5, 1, 1]
        to: {at: [50, 0, 0]}
)";

TEST(RoomFiles, ReadRoomsPortalsAndSwells) {
  const SceneFile file = parse_scene(two_rooms, "two.yaml");
  ASSERT_EQ(file.scene.rooms.size(), 2u);
  const Room& hall = file.scene.rooms[0];
  EXPECT_EQ(hall.name, "hall");
  EXPECT_EQ(file.camera.room, "hall");
  ASSERT_EQ(hall.portals.size(), 2u);
  const Portal& door = hall.portals[0];
  EXPECT_EQ(door.opening.width, 1.2);
  EXPECT_NEAR(door.stance.heading, pi, 1e-12);
  EXPECT_EQ(door.behind, Behind::shut);
  EXPECT_EQ(door.to->room, "garden");
  EXPECT_EQ(door.to->scale, 0.5);
  EXPECT_NEAR(door.to->stance.heading, pi / 2, 1e-12);
  EXPECT_EQ((*door.fallback)[2], 0.3f);
  EXPECT_EQ(hall.portals[1].opening.corners.size(), 3u);
  EXPECT_TRUE(hall.portals[1].one_way);
  EXPECT_EQ(hall.swells[0].stretch, 3);
  const Portal& tunnel = file.scene.rooms[1].portals[1];
  EXPECT_EQ(tunnel.opening.sides, (std::vector<BoxSide>{BoxSide::front, BoxSide::back}));
  EXPECT_EQ(tunnel.stretch, Vec3d(5, 1, 1));
}

TEST(RoomFiles, WhatIsWrittenReadsAsTheSame) {
  const SceneFile file = parse_scene(two_rooms + "\n", "two.yaml");
  // The pond leads nowhere one would come back by: it has no target, and that is said.
  const std::string text = scene_text(file);
  const SceneFile again = parse_scene(text, "again.yaml");
  EXPECT_EQ(scene_text(again), text);
  EXPECT_EQ(again.scene.rooms[1].portals[1].stretch, Vec3d(5, 1, 1));
  EXPECT_EQ(again.camera.room, "hall");
}

TEST(RoomFiles, RefuseWithThePlace) {
  const auto message = [](std::string from, const std::string& to) -> std::string {
    std::string text = two_rooms;
    const auto at = text.find(from);
    EXPECT_NE(at, text.npos) << from;
    text.replace(at, from.size(), to);
    try {
      const SceneFile file = parse_scene(text, "two.yaml");
      compile(file.scene);
    } catch (const Error& error) {
      return error.what();
    }
    return "";
  };
  EXPECT_THAT(message("room: garden", "room: gardn"),
              HasSubstr("two.yaml:8:9: portal 'door': no room 'gardn'; did you mean garden?"));
  EXPECT_THAT(message("portal: pond", "portal: pont"),
              HasSubstr("two.yaml:17:9: portal '': no portal 'pont'; did you mean pond?"));
  EXPECT_THAT(message("width: 1.2", "width: 0"),
              HasSubstr("two.yaml:9:28: found '0', expected number, more than 0"));
  EXPECT_THAT(message("scale: 0.5", "scale: -1"), HasSubstr("two.yaml:16:"));
  EXPECT_THAT(message("width: 1.2", "widht: 1.2"),
              HasSubstr("no such key 'widht'; did you mean width?"));
  EXPECT_THAT(message("rectangle: {width: 1.2, height: 2.2}", "rim: 0.1"), HasSubstr("two.yaml:"));
  EXPECT_THAT(message("        pitch: 90", "        sphere: {radius: 1}"),
              HasSubstr("a second shape, expected one"));
  EXPECT_THAT(message("camera: {room: hall", "camera: {room: hal"),
              HasSubstr("two.yaml:2:16: no such room 'hal'; did you mean hall?"));
  EXPECT_THAT(message("sides: [front, back]", "sides: [frnt]"),
              HasSubstr("no such side 'frnt'; did you mean front?"));
  EXPECT_THAT(message("stretch: [5, 1, 1]", "stretch: [500, 1, 1]"), HasSubstr("two.yaml:"));
  EXPECT_THAT(message("axis: [0, 1, 0]", "axis: [0, 0, 0]"),
              HasSubstr("a swell whose axis has no length"));
  EXPECT_THAT(message("to: {portal: pond}", "to: {portal: pond, scale: 2}"),
              HasSubstr("a portal beside other keys, expected it alone"));
}

}  // namespace
}  // namespace photonlane::io
