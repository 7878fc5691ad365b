// What portals show and who walks through them: the same from both sides, at every scale, and as
// far as openings really are open.

#include <fmt/format.h>
#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using ::testing::AnyOf;
using ::testing::Contains;
using ::testing::HasSubstr;
using ::testing::Not;

io::SceneFile read(const std::string& text) { return io::parse_scene(text, "rooms.yaml"); }

Frame frame_of(const io::SceneFile& file, LayerSet layers) {
  return render(compile(file.scene), file.camera, file.budget, test::with_layers(layers));
}

TEST(Reversible, WhatASeesOfBBSeesOfA) {
  // Random lines through an opening at a scale, out and back: they pass its rim or not alike.
  for (const double scale : {0.1, 1.0, 4.0}) {
    const io::SceneFile file = read(fmt::format(R"(
camera: {{eye: [0, 0, 1], room: a}}
materials: {{m: {{base: [0.5, 0.5, 0.5]}}}}
rooms:
  a:
    portals:
      - {{name: door, rectangle: {{width: 1, height: 2}}, at: [2, 0, 1], heading: 180, rim: 0.06, to: {{room: b, at: [0, 0, {}], scale: {}}}}}
    solids: [{{field: {{place: {{at: [0, 0, -5], of: {{sphere: {{radius: 0.1}}}}}}}}}}]
  b:
    solids: [{{field: {{place: {{at: [0, 0, -5], of: {{sphere: {{radius: 0.1}}}}}}}}}}]
)",
                                                scale, scale));
    const World world = compile(file.scene);
    Budget budget{.frame = {1, 1, 1}};
    budget.number = NumberType::float64;
    int through = 0;
    for (std::uint64_t n = 0; n < static_cast<std::uint64_t>(test::effort(400)); ++n) {
      const auto chance = [&](std::uint32_t which) {
        return 2 * random_uniform({.pixel = n}, which) - 1;
      };
      // From a place in a, through one near the opening, to a place in b: as seen from both ends.
      const Vec3d from(0.3 * chance(0), 0.8 * chance(1), 1 + 0.8 * chance(2));
      const Vec3d at(2, 0.52 * chance(3), 1 + 1.02 * chance(4));
      const Vec3d way = (at - from).normalized();
      const double length = (at - from).norm();
      // In b it comes out as if b lay behind the opening, scaled.
      const Vec3d out = scale * (at - Vec3d(2, 0, 1)) + Vec3d(0, 0, scale);
      const Vec3d to = out + scale * way;
      const auto crossings = [&](const std::string& room, const Vec3d& eye, const Vec3d& target) {
        Camera camera = Camera::look_at(eye, target, 0.01);
        camera.room = room;
        const Frame one =
            render(world, camera, budget, test::with_layers({Layer::crossings, Layer::ending}));
        return one.codes(Layer::crossings)(0, 0);
      };
      // Lines along the border itself may go either way.
      const double border = std::min(0.5 - std::abs(at.y()), 1 - std::abs(at.z() - 1));
      if (std::abs(border) < 1e-3 || std::abs(border - 0.06) < 1e-3) continue;
      const auto there = crossings("a", from, at);
      const auto back = crossings("b", to, out);
      EXPECT_EQ(there, border > 0.06 ? 1u : 0u) << scale << " " << border << " " << length;
      EXPECT_EQ(back, there) << scale << " " << border;
      through += there;
    }
    EXPECT_GT(through, 50);
  }
}

TEST(Reversible, ShadowsAreAsLargeAtEveryScale) {
  // One picture, whatever the scale of the room behind the opening.
  std::vector<Frame> frames;
  for (const double scale : {1.0, 0.1, 0.01, 0.001}) {
    io::SceneFile file = read(fmt::format(R"(
camera: {{room: a, eye: [-1, 0, 1.2], look_at: [1.6, 0, 0], field_of_view: 30}}
materials: {{m: {{base: [0.8, 0.8, 0.8]}}, w: {{base: [0.8, 0.2, 0.2]}}}}
rooms:
  a:
    solids: [{{field: {{place: {{at: [-9, 0, 0], of: {{sphere: {{radius: 0.1}}}}}}, material: m}}}}]
    portals: [{{name: door, rectangle: {{width: 4, height: 4}}, at: [0, 0, 0], heading: 180, to: {{room: b, at: [0, 0, 0], scale: {0}}}}}]
  b:
    light: {{ambient: [0.1, 0.1, 0.1], sun: {{heading: 90, elevation: 30}}}}
    fog: {{start: 1000, end: 2000}}
    solids:
      - {{field: {{plane: {{}}, material: m}}}}
      - {{field: {{place: {{at: [{1}, 0, {2}], of: {{sphere: {{radius: {2}}}}}}}, material: w}}}}
budget: {{frame: {{width: 80, height: 50}}, light: {{corners: none}}}}
)",
                                          scale, 1.6 * scale, 0.1 * scale));
    frames.push_back(frame_of(file, {Layer::color, Layer::ending, Layer::cell, Layer::face}));
    EXPECT_LT(compare(frames.back(), frames.front()).rmse, 2e-4) << scale;
  }
}

TEST(Reversible, TheHallOfOneSectionIsTheBuiltOneWithCornersOn) {
  // Two sections built, seen from the middle of one, beside one section between two portals.
  const std::string section = R"(
      - field: {plane: {}, material: m}
      - field: {mirror: {axis: y, of: {repeat: {spacing: [2, 0, 0], count: [COUNT, 1, 1], of: {place: {at: [0, 1.2, 1], of: {cylinder: {radius: 0.25, height: 2}}}}}}}, material: m}
)";
  const auto with = [&](const std::string& count) {
    std::string text = section;
    text.replace(text.find("COUNT"), 5, count);
    return text;
  };
  const std::string head = R"(
camera: {eye: [0, 0.2, 1.4], heading: 12, field_of_view: 70ROOM}
materials: {m: {base: [0.8, 0.8, 0.8]}}
)";
  const auto scene = [&](const std::string& room, const std::string& body) {
    std::string text = head;
    text.replace(text.find("ROOM"), 4, room);
    return text + body;
  };
  const std::string light =
      "    light: {ambient: [0.9, 0.9, 0.9], corner_reach: 0.8}\n    fog: {start: 6, end: 9}\n";
  io::SceneFile built = read(scene("", "room:\n" + light + "    solids:\n" + with("41")));
  io::SceneFile portals = read(scene(", room: hall", R"(
rooms:
  hall:
    portals:
      - {name: east, rectangle: {width: 8, height: 6}, at: [1, 0, 3], heading: 180, to: {portal: west}}
      - {name: west, rectangle: {width: 8, height: 6}, at: [-1, 0, 3], heading: 0, to: {portal: east}}
)" + light + "    solids:\n" + with("1")));
  for (const Corners corners : {Corners::neighbors, Corners::sampled}) {
    for (io::SceneFile* file : {&built, &portals}) {
      file->budget.frame = {96, 60, 1};
      file->budget.light.corners = corners;
      file->budget.light.corner_samples = 64;
      file->budget.light.crossings = 2;
    }
    const Frame truth = frame_of(built, {Layer::color, Layer::depth});
    const Frame seen = frame_of(portals, {Layer::color, Layer::depth});
    int seams = 0;
    for (int y = 0; y < 60; ++y) {
      for (int x = 0; x < 96; ++x) {
        seams += std::abs(seen.values(Layer::color, 0)(x, y) -
                          truth.values(Layer::color, 0)(x, y)) > 0.06f;
      }
    }
    // Along silhouettes alone.
    EXPECT_LT(seams, 96 * 60 / 50) << name_of(corners);
  }
}

TEST(Walkers, DoNotSinkAtDoorsThatReachBelowTheFloor) {
  for (const double bottom : {0.0, -0.3, -1.0}) {
    const double height = 3 - bottom;
    const io::SceneFile file = read(fmt::format(R"(
camera: {{room: a, eye: [-1, 0.1, 1.6], heading: 0}}
rooms:
  a:
    solids: [{{field: {{plane: {{}}}}}}]
    portals: [{{name: door, rectangle: {{width: 2, height: {0}}}, at: [2, 0, {1}], heading: 180, to: {{room: b, at: [5, 5, {1}]}}}}]
  b:
    solids: [{{field: {{plane: {{}}}}}}]
)",
                                                height, bottom + 0.5 * height));
    WalkScript script{.rate = 20, .moves = {{.forward = 4}, {.forward = -4}, {.forward = 4}}};
    const std::vector<WalkStep> steps = walk(compile(file.scene), file.camera, script);
    int crossings = 0;
    for (const WalkStep& step : steps) {
      EXPECT_NEAR(step.level, 0, 1e-3) << bottom;
      crossings += step.crossings;
    }
    EXPECT_EQ(crossings, 3) << bottom;
  }
}

TEST(Walkers, DoNotPassWhatIsShutNorRims) {
  const auto scene = [](const std::string& more) {
    return read(R"(
camera: {room: a, eye: [4, 0, 1.6], heading: 180}
rooms:
  a:
    solids: [{field: {plane: {}}}]
    portals: [{name: door, rectangle: {width: 3, height: 4}, at: [2, 0, 1.5], heading: 180, )" +
                more + R"(to: {room: b, at: [0, 0, 1.5]}}]
  b:
    solids: [{field: {plane: {}}}]
)");
  };
  const WalkScript ahead{.rate = 20, .moves = {{.forward = 4}}};
  const io::SceneFile shut = scene("behind: shut, ");
  const WalkStep before = walk(compile(shut.scene), shut.camera, ahead).back();
  EXPECT_EQ(before.room, 0u);
  EXPECT_GT(before.place.x(), 2.2) << "it stands before what it sees";
  const io::SceneFile open = scene("behind: open, ");
  const WalkStep past = walk(compile(open.scene), open.camera, ahead).back();
  EXPECT_NEAR(past.place.x(), 0, 1e-6);
  // From the front through the middle, and against a rim of half a meter.
  for (const auto& [y, passes] : {std::pair{0.0, true}, {0.7, true}, {1.2, false}, {-1.2, false}}) {
    io::SceneFile rim = scene("rim: 0.5, ");
    rim.camera.eye = {0, y, 1.6};
    rim.camera.heading = 0;
    const std::vector<WalkStep> steps = walk(compile(rim.scene), rim.camera, ahead);
    EXPECT_EQ(steps.back().room == 1, passes) << y;
    if (!passes) {
      EXPECT_LT(steps.back().place.x(), 2) << y;
    }
  }
}

TEST(Walkers, AreBentByStretchedSidesAsLanesAre) {
  io::SceneFile file = read(R"(
camera: {room: a, eye: [0, -3, 1.6], heading: 73}
rooms:
  a:
    portals:
      - {name: p, box: {size: [8, 2, 6]}, at: [0, 0, 1], to: {room: b, at: [0, 0, 1]}, stretch: [3, 1, 1]}
    solids: [{field: {plane: {}}}]
  b:
    solids: [{field: {plane: {}}}]
)");
  const World world = compile(file.scene);
  // A lane of the same heading, level.
  Budget budget{.frame = {1, 1, 1}};
  budget.number = NumberType::float64;
  const LaneLog log = log_lane(world, file.camera, budget, 0, 0);
  ASSERT_GE(log.legs.size(), 2u);
  const double seen = std::atan2(log.legs[1].way.y(), log.legs[1].way.x());
  const std::vector<WalkStep> steps =
      walk(world, file.camera, {.rate = 50, .moves = {{.forward = 2.8}}});
  ASSERT_EQ(steps.back().room, 1u);
  EXPECT_NEAR(steps.back().heading, seen, 0.01);
  EXPECT_GT(std::abs(seen - degrees(73)), 0.1);
}

TEST(CheckRooms, TellsWhatWouldLookWrong) {
  const auto told = [](const std::string& text) {
    const io::SceneFile file = read(text);
    const SceneReport report = check(file.scene, file.camera, file.budget);
    std::vector<std::string> all = report.warnings;
    all.insert(all.end(), report.loops.begin(), report.loops.end());
    return all;
  };
  const std::string rooms = R"(
camera: {room: a, eye: [-2, 0, 1.6], heading: 0}
materials: {m: {base: [0.5, 0.5, 0.5]}, w: {base: [0.7, 0.5, 0.5], glow: 1}}
rooms:
  a:
    portals: [PORTAL]
MORE
    solids: [{field: {plane: {}, material: m}}, {field: {place: {at: [-5, 0, 1], of: {sphere: {radius: 0.3}}}, material: w}}]
  b:
    solids: [{field: {plane: {}, material: m}}]
BUDGET
)";
  const auto scene = [&](const std::string& portal, const std::string& more,
                         const std::string& budget) {
    std::string text = rooms;
    text.replace(text.find("PORTAL"), 6, portal);
    text.replace(text.find("MORE"), 4, more);
    text.replace(text.find("BUDGET"), 6, budget);
    return told(text);
  };
  const std::string door =
      "{name: door, rectangle: {width: 1, height: 2}, at: [2, 0, 1], heading: 180, to: {room: b, "
      "at: [0, 0, 1]}}";
  EXPECT_THAT(scene(door, "", ""), Not(Contains(AnyOf(HasSubstr("door"), HasSubstr("lamp")))));
  EXPECT_THAT(scene(door, "", "budget: {crossings: {limit: 0}}"),
              Contains(HasSubstr("crossings.limit is 0")));
  EXPECT_THAT(scene(door, "    swells: [{at: [2.5, 0, 1], radius: 1, stretch: 2}]", ""),
              Contains(HasSubstr("'door' reaches into swell 1")));
  EXPECT_THAT(scene(door, "    light: {lamps: [{place: [0, 0, -0.5]}]}", ""),
              Contains(HasSubstr("lamp 1 of a is inside of something")));
  EXPECT_THAT(scene(door, "    light: {lamps: [{place: [-5, 0, 1]}]}", ""),
              Not(Contains(HasSubstr("lamp 1"))))
      << "the glass of a lantern";
  EXPECT_THAT(scene("{name: door, rectangle: {width: 1, height: 2}, at: [2, 0, 1], heading: 180, "
                    "rim: 0.5, to: "
                    "{room: b, at: [0, 0, 1]}}",
                    "", ""),
              Contains(HasSubstr("fills its opening")));
  // A box is not seen in itself: who leaves it goes away from it.
  const std::string box =
      "{name: p, box: {size: [2, 1, 1]}, at: [1, 0, 1.2], to: {room: b, at: [0, 0, 1.2]}, stretch: "
      "[3, 1, 1]}";
  EXPECT_THAT(scene(box, "", ""), Not(Contains(HasSubstr("without bound"))));
  // Two that face one another are.
  EXPECT_THAT(
      scene(
          "{name: east, rectangle: {width: 2, height: 2}, at: [2, 0, 1], heading: 180, to: "
          "{portal: "
          "west}}, {name: west, rectangle: {width: 2, height: 2}, at: [-2, 0, 1], heading: 0, to: "
          "{portal: east}}",
          "", ""),
      Contains(HasSubstr("without bound")));
}

TEST(CheckRooms, OfManyRoomsAllJoinedEnds) {
  std::string text = "camera: {room: r0, eye: [0, 0, 1]}\nrooms:\n";
  constexpr int count = 14;
  for (int r = 0; r < count; ++r) {
    text += fmt::format("  r{}:\n    solids: [{{field: {{plane: {{}}}}}}]\n    portals:\n", r);
    for (int to = 0; to < count; ++to) {
      if (to == r) continue;
      text += fmt::format(
          "      - {{rectangle: {{width: 0.5, height: 2}}, at: [{}, {}, 1], heading: 90, to: "
          "{{room: r{}, at: "
          "[0, {}, 1]}}, one_way: true}}\n",
          to, 5 + to, to, -to);
    }
  }
  const io::SceneFile file = read(text);
  const SceneReport report = check(file.scene, file.camera, file.budget);
  ASSERT_EQ(report.loops.size(), 41u);
  EXPECT_THAT(report.loops.back(), HasSubstr("not all were looked for"));
}

}  // namespace
}  // namespace photonlane
