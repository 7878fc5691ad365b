#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "photonlane/photonlane.hpp"

namespace photonlane {
namespace {

using testing::Contains;
using testing::HasSubstr;
using testing::IsEmpty;

/// A hall and a garden, a door between them.
Scene joined() {
  Scene scene;
  scene.wall({.base = {0.5f, 0.4f, 0.3f}}, "stone");
  scene.room().name = "hall";
  scene.room().add(field::plane({0, 0, 1}, 0).made_of(0));
  Portal door;
  door.name = "door";
  door.opening = {.width = 1.2, .height = 2.2};
  door.stance = {.at = {2, 0, 1.1}, .heading = pi};
  door.to = PortalTarget{.room = "garden", .stance = {.at = {0, 0, 1.1}}};
  scene.room().portals.push_back(door);
  scene.add_room("garden").add(field::plane({0, 0, 1}, 0).made_of(0));
  return scene;
}

SceneReport report_of(const Scene& scene) { return check(scene, {.eye = {0, 0, 1.6}}, Budget{}); }

TEST(CheckPortals, FindNothingWrongWithADoor) {
  const SceneReport report = report_of(joined());
  EXPECT_THAT(report.warnings, IsEmpty());
  EXPECT_EQ(report.rooms, 2);
  EXPECT_EQ(report.portals, 1);
  EXPECT_THAT(report.loops, IsEmpty());
}

TEST(CheckPortals, WarnOfExitsInWallsOrTooCloseToThem) {
  Scene scene = joined();
  scene.rooms[1].add(field::place({0.5, 0, 1}, field::box({1.4, 4, 4})).made_of(0));
  EXPECT_THAT(report_of(scene).warnings,
              Contains(HasSubstr("'door' comes out inside of something in garden")));
  Scene close = joined();
  close.rooms[1].add(field::place({0.6, 0, 1}, field::box({0.8, 4, 4})).made_of(0));
  EXPECT_THAT(report_of(close).warnings,
              Contains(HasSubstr("'door' comes out less than 0.25 m, the radius of a body")));
}

TEST(CheckPortals, WarnOfTrapsAndRoomsOutOfReach) {
  Scene scene = joined();
  scene.rooms[0].portals[0].one_way = true;
  EXPECT_THAT(report_of(scene).warnings,
              Contains(HasSubstr("room garden is a trap: no way leads back")));
  scene.add_room("attic").add(field::plane({0, 0, 1}, 0).made_of(0));
  EXPECT_THAT(report_of(scene).warnings,
              Contains(HasSubstr("room attic cannot be reached from the eye")));
}

TEST(CheckPortals, WarnOfOpeningsThatLieInOneAnotherOrDoNotMatch) {
  Scene scene = joined();
  Portal second = scene.rooms[0].portals[0];
  second.name = "second";
  second.stance.at.y() = 0.8;
  scene.rooms[0].portals.push_back(second);
  EXPECT_THAT(report_of(scene).warnings,
              Contains(HasSubstr("'door' and 'second' lie in one another")));
  Scene apart = joined();
  Portal round;
  round.name = "round";
  round.opening = {.shape = OpeningShape::disc, .radius = 0.6};
  round.stance = {.at = {5, 5, 1}};
  apart.rooms[1].portals.push_back(round);
  apart.rooms[0].portals[0].to = PortalTarget{.portal = "round"};
  EXPECT_THAT(report_of(apart).warnings,
              Contains(HasSubstr("the openings of 'door' and 'round' do not match")));
}

TEST(CheckPortals, TellTheMapAroundEveryLoopAndWhatNests) {
  // Out by a door, back by a gate that turns by a quarter and halves.
  Scene scene = joined();
  Portal gate = scene.rooms[0].portals[0];
  gate.name = "gate";
  gate.stance = {.at = {6, 0, 1.1}, .heading = pi};
  gate.to = PortalTarget{
      .room = "hall", .stance = {.at = {-3, 0, 0.55}, .heading = degrees(90)}, .scale = 0.5};
  scene.rooms[1].portals.push_back(gate);
  const SceneReport report = report_of(scene);
  EXPECT_THAT(report.warnings, IsEmpty());
  EXPECT_THAT(report.loops, Contains(HasSubstr("round by 'door', 'gate': turned by 90 degrees")));
  EXPECT_THAT(report.loops, Contains(HasSubstr("0.5 times as large")));
  EXPECT_THAT(report.loops, Contains(HasSubstr("2 times as large")));  // the other way round

  Scene mirror_hall = joined();
  Portal west = mirror_hall.rooms[0].portals[0];
  west.name = "west";
  west.stance = {.at = {-2, 0, 1.1}};
  west.to = PortalTarget{.portal = "east"};
  Portal east = west;
  east.name = "east";
  east.stance = {.at = {2, 0, 1.1}, .heading = pi};
  east.to = PortalTarget{.portal = "west"};
  mirror_hall.rooms.pop_back();
  mirror_hall.rooms[0].portals = {west, east};
  EXPECT_THAT(report_of(mirror_hall).loops,
              Contains(HasSubstr("seen in themselves without bound, if nothing is between: "
                                 "'west', 'east'")));
}

}  // namespace
}  // namespace photonlane
