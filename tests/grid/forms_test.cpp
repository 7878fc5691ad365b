#include <gmock/gmock.h>

#include <cmath>
#include <limits>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using ::testing::HasSubstr;

/// A map of blocks of all heights, panes and doors, drawn at random.
CellMap furnished(int width, int height, std::uint64_t seed) {
  CellMap map = test::random_map(width, height, 0.3, seed, true);
  map.wall_height = 3;
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      if (map.at(x, y) == empty_cell) continue;
      const RandomKey key{.seed = seed + 77, .pixel = static_cast<std::uint64_t>(y) * width + x};
      const float kind = random_uniform(key, 1);
      const bool edge = x == 0 || y == 0 || x == width - 1 || y == height - 1;
      if (edge || kind < 0.15f) continue;  // plain
      CellForm form;
      form.height = kind < 0.6f ? 0.2 + 2.0 * random_uniform(key, 2) : 0;
      if (kind > 0.4f) {
        form.shape = kind > 0.8f   ? CellShape::pane
                     : kind > 0.6f ? CellShape::sliding
                                   : CellShape::swinging;
        form.along = random_uniform(key, 3) < 0.5f ? PanelAxis::x : PanelAxis::y;
        form.thickness = 0.05 + 0.2 * random_uniform(key, 4);
        form.opening = random_uniform(key, 5);
        form.reversed = random_uniform(key, 6) < 0.5f;
      }
      map.set_form(x, y, form);
    }
  }
  return map;
}

/// The corners of what stands in a cell, from what the form says, not from the library's boxes.
struct Prism {
  std::vector<Vec2d> corners;  // counterclockwise
  double top;
};
Prism prism_of(const CellMap& map, int x, int y) {
  const CellForm* form = map.form(x, y);
  Prism prism{{{0, 0}, {1, 0}, {1, 1}, {0, 1}}, 1e9};
  if (form != nullptr && form->height > 0) prism.top = form->height;
  if (form != nullptr && form->shape != CellShape::block) {
    const double w = form->thickness / map.cell_size;
    const double open = form->opening;
    std::vector<Vec2d>& c = prism.corners;
    if (form->shape == CellShape::swinging) {
      // A door from (0, 0) to (1, w), turned about (w / 2, w / 2).
      const double angle = open * pi / 2;
      for (Vec2d& corner : c) {
        const Vec2d from(corner.x() - w / 2, (corner.y() - 0.5) * w);
        corner = Vec2d(w / 2 + from.x() * std::cos(angle) - from.y() * std::sin(angle),
                       w / 2 + from.x() * std::sin(angle) + from.y() * std::cos(angle));
        if (form->reversed) corner.x() = 1 - corner.x();
      }
    } else {
      const bool slides = form->shape == CellShape::sliding;
      const double low = slides && !form->reversed ? open : 0;
      const double high = slides && form->reversed ? 1 - open : 1;
      c = {{low, 0.5 - w / 2}, {high, 0.5 - w / 2}, {high, 0.5 + w / 2}, {low, 0.5 + w / 2}};
    }
    if (form->along == PanelAxis::y) {
      for (Vec2d& corner : c) std::swap(corner.x(), corner.y());
    }
  }
  for (Vec2d& corner : prism.corners) corner = (corner + Vec2d(x, y)) * map.cell_size;
  return prism;
}

/// The first surface along a ray, by clipping it against every prism of the map in double.
struct Truth {
  double t = std::numeric_limits<double>::infinity();
  int cell = -1;
  bool top = false;
};
Truth first_surface(const CellMap& map, const Vec3d& from, const Vec3d& ray) {
  Truth truth;
  if (ray.z() < 0) truth.t = -from.z() / ray.z();
  if (ray.z() > 0) truth.t = (map.wall_height - from.z()) / ray.z();
  for (int y = 0; y < map.height; ++y) {
    for (int x = 0; x < map.width; ++x) {
      if (map.at(x, y) == empty_cell) continue;
      const Prism prism = prism_of(map, x, y);
      double enter = -1e30;
      double exit = 1e30;
      const auto& c = prism.corners;
      double area = 0;
      for (std::size_t i = 0; i < 4; ++i) {
        const Vec2d& a = c[i];
        const Vec2d& b = c[(i + 1) % 4];
        area += a.x() * b.y() - a.y() * b.x();
      }
      const double turn = area > 0 ? 1 : -1;
      if (std::abs(area) < 1e-12) continue;
      for (std::size_t i = 0; i < 4; ++i) {
        const Vec2d edge = c[(i + 1) % 4] - c[i];
        const Vec2d out = turn * Vec2d(edge.y(), -edge.x());
        const double speed = out.x() * ray.x() + out.y() * ray.y();
        const double distance = out.dot(Vec2d(from.x(), from.y()) - c[i]);
        if (speed == 0) {
          if (distance > 0) exit = -1e30;
        } else if (speed < 0) {
          enter = std::max(enter, -distance / speed);
        } else {
          exit = std::min(exit, -distance / speed);
        }
      }
      // Of a turned door only what lies in its cell.
      for (int axis = 0; axis < 2; ++axis) {
        const double a = ((axis == 0 ? x : y) * map.cell_size - from[axis]) / ray[axis];
        const double b =
            ((axis == 0 ? x : y) * map.cell_size + map.cell_size - from[axis]) / ray[axis];
        enter = std::max(enter, std::min(a, b));
        exit = std::min(exit, std::max(a, b));
      }
      if (enter >= exit || exit < 0) continue;
      enter = std::max(enter, 0.0);
      const double height = from.z() + enter * ray.z();
      double t = enter;
      bool top = false;
      if (height >= prism.top) {
        if (!(ray.z() < 0)) continue;
        t = (prism.top - from.z()) / ray.z();
        top = true;
        if (t >= exit) continue;
      }
      if (t < truth.t) truth = {t, y * map.width + x, top};
    }
  }
  return truth;
}

/// Lanes in all directions from places of a map where nothing stands.
template <class Number>
LaneBatch<Number> lanes_in(const CellMap& map, std::uint64_t seed) {
  LaneBatch<Number> lanes;
  lanes.far_limit = 1000;
  for (std::uint64_t i = 0; lanes.size < LaneBatch<Number>::capacity; ++i) {
    const RandomKey key{.seed = seed, .pixel = i};
    const double x = (1 + random_uniform(key, 0) * (map.width - 2)) * map.cell_size;
    const double y = (1 + random_uniform(key, 1) * (map.height - 2)) * map.cell_size;
    const int column = static_cast<int>(x / map.cell_size);
    const int row = static_cast<int>(y / map.cell_size);
    if (map.at(column, row) != empty_cell) continue;
    const double heading = 2 * pi * random_uniform(key, 2);
    const double pitch = 1.2 * (random_uniform(key, 3) - 0.5);
    const std::size_t k = lanes.size++;
    lanes.x[k] = static_cast<Number>(x);
    lanes.y[k] = static_cast<Number>(y);
    lanes.z[k] = static_cast<Number>(0.2 + 2.6 * random_uniform(key, 4));
    lanes.direction_x[k] = static_cast<Number>(std::cos(heading) * std::cos(pitch));
    lanes.direction_y[k] = static_cast<Number>(std::sin(heading) * std::cos(pitch));
    lanes.direction_z[k] = static_cast<Number>(std::sin(pitch));
  }
  return lanes;
}

template <class Number>
void expect_truth(CellMethod method, double tolerance) {
  int met = 0;
  const auto seeds = static_cast<std::uint64_t>(test::effort(12));
  for (std::uint64_t seed = 1; seed <= seeds; ++seed) {
    CellMap map = furnished(16, 13, seed);
    map.cell_size = seed % 2 == 0 ? 1 : 0.7;
    for (CellForm& form : map.forms) form.thickness = std::min(form.thickness, 0.3 * map.cell_size);
    const CellSolid solid(map);
    const LaneBatch<Number> lanes = lanes_in<Number>(map, seed);
    const HitBatch<Number> hits = solid.nearest_hit(lanes, test::with_method(method));
    for (std::size_t i = 0; i < lanes.size; ++i) {
      const Vec3d from(lanes.x[i], lanes.y[i], lanes.z[i]);
      const Vec3d ray(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
      const Truth truth = first_surface(map, from, ray);
      const double t = static_cast<double>(hits.t[i]);
      // Where a lane grazes an edge either answer is right: then a hair to the side decides.
      if (std::abs(t - truth.t) > tolerance) {
        const Vec3d side = 1e-4 * Vec3d(-ray.y(), ray.x(), 0.3).normalized();
        const double a = first_surface(map, from + side, ray).t;
        const double b = first_surface(map, from - side, ray).t;
        EXPECT_GT(std::abs(a - b), tolerance)
            << "seed " << seed << " lane " << i << ": " << t << " instead of " << truth.t;
        continue;
      }
      if (truth.cell < 0) {
        EXPECT_EQ(hits.item[i], no_item);
        continue;
      }
      ++met;
      EXPECT_EQ(static_cast<int>(hits.item[i]), truth.cell) << seed << " " << i;
      EXPECT_EQ(hits.face[i] == Face::floor, truth.top) << seed << " " << i;
    }
  }
  EXPECT_GT(met, static_cast<int>(58 * seeds));
}

TEST(Forms, LanesMeetWhatClippingEveryPrismSays) {
  expect_truth<float>(CellMethod::leap, 2e-3);
  expect_truth<float>(CellMethod::boundary, 2e-3);
  expect_truth<double>(CellMethod::leap, 1e-9);
  expect_truth<double>(CellMethod::boundary, 1e-9);
}

TEST(Forms, LeapAndBoundaryGiveTheSameBits) {
  for (std::uint64_t seed = 1; seed <= 6; ++seed) {
    CellMap map = furnished(40, 31, seed);
    map.repeat = seed % 3 == 0;
    const CellSolid solid(map);
    const LaneBatch<float> lanes = lanes_in<float>(map, seed + 5);
    const HitBatch<float> leap = solid.nearest_hit(lanes, test::with_method(CellMethod::leap));
    const HitBatch<float> boundary =
        solid.nearest_hit(lanes, test::with_method(CellMethod::boundary));
    for (std::size_t i = 0; i < lanes.size; ++i) {
      EXPECT_EQ(leap.t[i], boundary.t[i]);
      EXPECT_EQ(leap.item[i], boundary.item[i]);
      EXPECT_EQ(leap.face[i], boundary.face[i]);
      EXPECT_LE(leap.steps[i], boundary.steps[i]);
    }
  }
}

TEST(Forms, SmallIncrementsComeNearToTheTruth) {
  CellMap map = furnished(16, 13, 4);
  const CellSolid solid(map);
  const LaneBatch<double> lanes = lanes_in<double>(map, 9);
  Budget budget = test::with_method(CellMethod::increment);
  budget.cells.increment = 0.002;
  const HitBatch<double> steps = solid.nearest_hit(lanes, budget);
  const HitBatch<double> exact = solid.nearest_hit(lanes, test::with_method(CellMethod::leap));
  int near = 0;
  for (std::size_t i = 0; i < lanes.size; ++i) near += std::abs(steps.t[i] - exact.t[i]) < 0.01;
  EXPECT_GT(near, 115) << "but for edges and thin panels";
}

TEST(Forms, LanesThatGoOnMeetTheNextSurface) {
  // Three panes across a corridor, one behind the other; then a wall.
  CellMap map =
      draw_cells("#######\n.......\n#######", std::vector<LegendLetter>{{U'#', wall_of(0)}});
  for (const int x : {2, 4}) {
    map.at(x, 1) = wall_of(1);
    map.set_form(x, 1, CellForm{.shape = CellShape::pane, .along = PanelAxis::y, .thickness = 0.1});
  }
  map.at(6, 1) = wall_of(0);
  const CellSolid solid(map);
  LaneBatch<double> lanes = test::one_lane<double>(0.5, 1.5, 1, 0);
  lanes.z[0] = 1;
  std::vector<double> met;
  for (int i = 0; i < 4; ++i) {
    const HitBatch<double> hits = solid.nearest_hit(lanes, Budget{});
    if (hits.ending[0] != Ending::hit) break;
    met.push_back(hits.t[0] + 0.5);
    lanes.any_start = true;
    lanes.start[0] = hits.t[0];
  }
  ASSERT_EQ(met.size(), 3u);
  EXPECT_NEAR(met[0], 2.45, 1e-9);
  EXPECT_NEAR(met[1], 4.45, 1e-9);
  EXPECT_NEAR(met[2], 6, 1e-9);
}

/// How much of a row of lanes across a doorway a door stops.
double stopped_by(const CellForm& form, bool across_y) {
  CellMap map = draw_cells("...\n...\n...", std::vector<LegendLetter>{});
  map.at(1, 1) = wall_of(0);
  map.set_form(1, 1, form);
  const CellSolid solid(map);
  int stopped = 0;
  const int lanes_count = 1000;
  for (int i = 0; i < lanes_count; ++i) {
    const double place = 1 + (i + 0.5) / lanes_count;
    LaneBatch<double> lanes = across_y ? test::one_lane<double>(place, 0.2, 0, 1)
                                       : test::one_lane<double>(0.2, place, 1, 0);
    lanes.z[0] = 1;
    const HitBatch<double> hits = solid.nearest_hit(lanes, Budget{});
    stopped += hits.item[0] != no_item;
  }
  return static_cast<double>(stopped) / lanes_count;
}

TEST(Doors, StopAsMuchAsTheyAreShut) {
  for (const bool across_y : {true, false}) {
    CellForm door{.shape = CellShape::sliding,
                  .along = across_y ? PanelAxis::x : PanelAxis::y,
                  .thickness = 0.1};
    for (const double opening : {0.0, 0.003, 0.25, 0.5, 1.0}) {
      for (const bool reversed : {false, true}) {
        door.opening = opening;
        door.reversed = reversed;
        EXPECT_NEAR(stopped_by(door, across_y), 1 - opening, 0.0011) << opening;
      }
    }
    door.shape = CellShape::swinging;
    door.reversed = false;
    // A quarter turn about the middle of its square end: half its thickness from the corner.
    for (const double opening : {0.0, 0.001, 0.5, 1.0}) {
      door.opening = opening;
      const double angle = opening * pi / 2;
      const double reach = 0.05 + 0.95 * std::cos(angle) + 0.05 * std::sin(angle);
      EXPECT_NEAR(stopped_by(door, across_y), std::min(1.0, reach), 0.0021) << opening;
    }
  }
}

TEST(Doors, EditsEqualANewCompilation) {
  CellMap map = furnished(30, 24, 8);
  CellSolid solid(map);
  int doors = 0;
  for (int y = 0; y < map.height; ++y) {
    for (int x = 0; x < map.width; ++x) {
      const CellForm* form = map.form(x, y);
      if (map.at(x, y) == empty_cell || form == nullptr || !form->is_door()) continue;
      ++doors;
      const CellEdit edit = open_door(map, x, y, 0.37);
      solid.edit({&edit, 1});
      map.set_form(x, y, edit.form);
    }
  }
  ASSERT_GT(doors, 20);
  // And one taken out, one put in.
  const CellEdit edits[] = {
      {5, 5, empty_cell}, {6, 6, wall_of(0), CellForm{.height = 0.5}}, {7, 7, wall_of(0)}};
  solid.edit(edits);
  for (const CellEdit& one : edits) {
    map.at(one.x, one.y) = one.cell;
    map.set_form(one.x, one.y, one.form);
  }
  const CellSolid anew(map);
  const LaneBatch<float> lanes = lanes_in<float>(map, 3);
  const HitBatch<float> a = solid.nearest_hit(lanes, Budget{});
  const HitBatch<float> b = anew.nearest_hit(lanes, Budget{});
  for (std::size_t i = 0; i < lanes.size; ++i) {
    EXPECT_EQ(a.t[i], b.t[i]);
    EXPECT_EQ(a.item[i], b.item[i]);
    EXPECT_EQ(a.face[i], b.face[i]);
  }
  EXPECT_THROW(open_door(map, 0, 0, 0.5), Error);
  EXPECT_THROW(open_door(map, -1, 0, 0.5), Error);
  EXPECT_THROW(solid.edit(std::vector<CellEdit>{{3, 3, wall_of(0), CellForm{.height = -1}}}),
               Error);
}

TEST(Forms, ThoseThatCannotBeAreRefused) {
  const auto refusal = [](const CellForm& form) -> std::string {
    CellMap map = test::random_map(5, 5, 0, 1, true);
    try {
      map.set_form(0, 0, form);
      validate(map);
      return "accepted";
    } catch (const Error& error) {
      return error.what();
    }
  };
  EXPECT_EQ(refusal({}), "accepted");
  EXPECT_THAT(refusal({.height = 50}), HasSubstr("under a ceiling at 3"));
  EXPECT_THAT(refusal({.shape = CellShape::pane, .thickness = 0.7}), HasSubstr("half of a cell"));
  EXPECT_THAT(refusal({.shape = CellShape::sliding, .opening = 1.5}), HasSubstr("opening"));
  CellMap map = test::random_map(5, 5, 0, 1, true);
  map.form_of.assign(3, 0);
  EXPECT_THROW(validate(map), Error);
  map.form_of.assign(25, 9);
  EXPECT_THROW(validate(map), Error);
}

TEST(Bodies, PassOpenDoorsOnlyAndStepOntoLowBlocks) {
  CellMap map =
      draw_cells("#######\n.......\n#######", std::vector<LegendLetter>{{U'#', wall_of(0)}});
  map.at(3, 1) = wall_of(0);
  const auto walk_east = [&](const CellForm& form, double radius) {
    map.set_form(3, 1, form);
    return move_body(map, {{1.5, 1.5}, radius}, {4, 0});
  };
  CellForm door{.shape = CellShape::sliding, .along = PanelAxis::y, .thickness = 0.1};
  EXPECT_NEAR(walk_east(door, 0.2).place.x(), 3.45 - 0.2, 1e-4) << "shut";
  door.opening = 0.3;
  EXPECT_LT(walk_east(door, 0.2).place.x(), 3.45) << "not wide enough";
  door.opening = 1;
  EXPECT_NEAR(walk_east(door, 0.2).place.x(), 5.5, 1e-9) << "open";
  // Open by 0.8, the rest stands in the north: the body's way is clear only in the south.
  door.opening = 0.8;
  door.reversed = false;
  map.set_form(3, 1, door);
  EXPECT_GT(move_body(map, {{1.5, 1.4}, 0.2}, {4, 0}).place.x(), 5);
  const Moved onto = walk_east({.height = 0.25}, 0.2);
  EXPECT_NEAR(onto.place.x(), 5.5, 1e-9);
  EXPECT_EQ(onto.level, 0);
  EXPECT_EQ(move_body(map, {{1.5, 1.5}, 0.2}, {2, 0}).level, 0.25);
  EXPECT_LT(walk_east({.height = 0.5}, 0.2).place.x(), 3) << "too high a step";
  // From a step of 0.25 the next of 0.5 is within reach.
  map.at(4, 1) = wall_of(0);
  map.set_form(4, 1, CellForm{.height = 0.5});
  EXPECT_NEAR(walk_east({.height = 0.25}, 0.2).place.x(), 5.5, 1e-9);
  map.at(4, 1) = empty_cell;
  const Moved through = walk_east({.height = 0.8, .passable = true}, 0.2);
  EXPECT_NEAR(through.place.x(), 5.5, 1e-9) << "mist";
  EXPECT_EQ(move_body(map, {{1.5, 1.5}, 0.2}, {2, 0}).level, 0) << "is not stepped onto";
}

TEST(Bodies, NeverEnterAPanelWhateverTheWay) {
  for (std::uint64_t seed = 1; seed <= 8; ++seed) {
    CellMap map = furnished(20, 16, seed);
    for (CellForm& form : map.forms) form.height = 0;
    for (std::uint64_t i = 0; i < 200; ++i) {
      const RandomKey key{.seed = seed, .pixel = i};
      Body body{{1 + 18 * random_uniform(key, 0), 1 + 14 * random_uniform(key, 1)},
                0.05 + 0.2 * random_uniform(key, 2)};
      if (wall_distance(map, body.place, 1) < body.radius * 1.001) continue;
      for (std::uint32_t step = 0; step < 5; ++step) {
        const double angle = 2 * pi * random_uniform(key, 10 + step);
        const double length = 6 * random_uniform(key, 20 + step);
        body.place = move_body(map, body, length * Vec2d(std::cos(angle), std::sin(angle))).place;
        ASSERT_GE(wall_distance(map, body.place, 1), body.radius * (1 - 1e-9)) << seed << " " << i;
      }
    }
  }
}

}  // namespace
}  // namespace photonlane
