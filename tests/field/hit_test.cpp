// Where lanes end: within the tolerance of a surface whatever damps its values, between the last
// place outside and the first inside, and on the far side of portals as anywhere.

#include <fmt/format.h>
#include <gmock/gmock.h>

#include <cmath>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/lanes.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

using namespace field;

Frame shot(const Field& field, const Camera& camera, const Budget& budget) {
  Scene scene;
  scene.materials.push_back({});
  scene.room().add(field.made_of(0));
  return render(compile(scene), camera, budget,
                test::with_layers({Layer::ray_distance, Layer::ending, Layer::depth}));
}

long hits_of(const Frame& frame) {
  long hits = 0;
  for (int y = 0; y < frame.size().height; ++y) {
    for (int x = 0; x < frame.size().width; ++x) {
      hits += frame.codes(Layer::ending)(x, y) == static_cast<std::uint32_t>(Ending::hit);
    }
  }
  return hits;
}

TEST(Hits, DampingLeavesSilhouettesAsTheyAre) {
  const Camera camera = Camera::look_at({4, 0, 0}, {0, 0, 0}, 0.6);
  for (const FieldMethod method : {FieldMethod::sphere, FieldMethod::relaxed}) {
    Budget budget{.frame = {160, 120, 1}};
    budget.field.method = method;
    budget.field.growth = 0;
    const long plain = hits_of(shot(sphere(0.5), camera, budget));
    // The disk that a ball of its radius, and one larger by the tolerance, cover.
    for (const double factor : {1.0, 0.1, 0.01, 1e-4, 1e-6, 1e-9}) {
      const long damped = hits_of(shot(damp(factor, sphere(0.5)), camera, budget));
      EXPECT_NEAR(damped, plain, 8) << factor;
    }
  }
}

TEST(Hits, AreWithinTheToleranceOfASurfaceThatIsTwisted) {
  // Seen from where its silhouette is; the truth from the nearest place of the surface.
  const Field made = join({place({0, 0, 0}, twist(30, box({0.1, 0.1, 1.5}))),
                           place({0.5, 0, 0}, taper(0.3, 1.4, cylinder(0.1, 1)))});
  const CompiledField field(made);
  Budget budget{.frame = {120, 90, 1}};
  budget.field.growth = 0;
  budget.field.tolerance = 2e-4;
  const Camera camera = Camera::look_at({2.5, -2, 0.7}, {0.2, 0, 0}, 0.6);
  const Viewing view = viewing(camera, {120, 90});
  const Frame frame = shot(made, camera, budget);
  int met = 0;
  std::vector<Vec3d> places;
  for (int y = 0; y < 90; ++y) {
    for (int x = 0; x < 120; ++x) {
      if (frame.codes(Layer::ending)(x, y) != static_cast<std::uint32_t>(Ending::hit)) continue;
      if (++met % 8 != 0) continue;
      const Vec3d way = view.ray(view.u(x + 0.5), view.v(y + 0.5)).normalized();
      places.push_back(camera.eye + double{frame.values(Layer::ray_distance)(x, y)} * way);
    }
  }
  EXPECT_GT(met, 300);
  for (const ClosestSurface& found : field.closest_surfaces(places)) {
    EXPECT_LT(found.distance, 1.1 * budget.field.tolerance + 5e-6);
  }
}

TEST(Hits, FlatGroundIsAsFarAsItIs) {
  // From eye height to the horizon: no jump in depth, whatever a step would be.
  Camera camera;
  camera.eye = {0, 0, 1.6};
  camera.pitch = 1e-9;
  camera.field_of_view = 0.5;
  Budget budget{.frame = {4, 400, 1}};
  budget.number = NumberType::float64;
  const Frame frame = shot(plane({0, 0, 1}), camera, budget);
  const Viewing view = viewing(camera, {4, 400});
  for (int y = 203; y < 400; ++y) {
    const double truth = 1.6 / -view.ray(view.u(2.5), view.v(y + 0.5)).normalized().z();
    if (truth > 500) continue;
    EXPECT_NEAR(frame.values(Layer::ray_distance)(2, y), truth, 1e-5 * truth) << y;
  }
}

TEST(Hits, LieBetweenTheLastPlaceOutsideAndTheFirstInside) {
  // By very small steps: a lane may be stopped within the tolerance before the surface, never
  // behind where it is first inside.
  const std::pair<const char*, Field> cases[] = {
      {"bulb", measured(bulb(8, 10))},
      {"sponge", sponge(2, 4)},
      {"julia", measured(julia({-0.2, 0.6, 0.2, 0.1}, 9))},
      {"posts", repeat({0.3, 0.3, 0}, {7, 7, 1}, cylinder(0.01, 2))}};
  for (const auto& [name, made] : cases) {
    const CompiledField field(made);
    LaneBatch<double> lanes;
    int behind = 0;
    int met = 0;
    for (std::uint64_t seed = 0; seed < static_cast<std::uint64_t>(test::effort(6)); ++seed) {
      lanes.size = 128;
      lanes.far_limit = 8;
      for (std::size_t i = 0; i < lanes.size; ++i) {
        const auto chance = [&](std::uint32_t which) {
          return 2 * random_uniform({.seed = seed, .pixel = i}, which) - 1;
        };
        const Vec3d from = 2.5 * Vec3d(chance(0), chance(1), chance(2)).normalized();
        const Vec3d to(0.8 * chance(3), 0.8 * chance(4), 0.8 * chance(5));
        const Vec3d way = (to - from).normalized();
        test::aim(lanes, i, from, way);
      }
      Budget budget;
      const HitBatch<double> refined = field.nearest_hit(lanes, budget);
      budget.field.refinement = 0;
      const HitBatch<double> first = field.nearest_hit(lanes, budget);
      for (std::size_t i = 0; i < lanes.size; ++i) {
        if (first.ending[i] != Ending::hit) continue;
        ASSERT_EQ(refined.ending[i], Ending::hit);
        ++met;
        const Vec3d from(lanes.x[i], lanes.y[i], lanes.z[i]);
        const Vec3d way(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
        // Between where it was first taken for there and where it ended.
        constexpr double small = 1e-5;
        std::vector<Vec3d> between;
        for (double t = first.t[i]; t < refined.t[i] - budget.field.tolerance; t += small) {
          between.push_back(from + t * way);
        }
        const std::vector<double> values = field.distances(between);
        const bool through =
            std::any_of(values.begin(), values.end(), [](double value) { return value < -1e-6; });
        behind += through && refined.t[i] - first.t[i] > 1e-3;
      }
    }
    EXPECT_GT(met, 100) << name;
    // Estimates are trusted but for one step in a thousand.
    EXPECT_LE(behind, field.has_estimates() ? met / 200 : 0) << name << " of " << met;
  }
}

TEST(Hits, LanesThatWereLedAreNotTakenForLeaving) {
  // Through a portal, with lanes led together to just before the floor beyond it.
  Scene scene;
  scene.materials.push_back({});
  scene.rooms.clear();
  Room& a = scene.add_room("a");
  a.add(place({-5, 0, 0}, sphere(0.1)).made_of(0));
  Portal door;
  door.opening = {.width = 3, .height = 3};
  door.stance = {.at = {2, 0, 1.5}, .heading = pi};
  door.to = PortalTarget{.room = "b", .stance = {.at = {0, 0, 1.6}}};
  a.portals.push_back(door);
  scene.add_room("b").add(plane({0, 0, 1}).made_of(0));
  const World world = compile(scene);
  int differ = 0;
  for (int n = 0; n < 40; ++n) {
    Camera camera{.eye = {-0.3 + 0.02 * n, 0.6 - 0.03 * n, 2.3},
                  .heading = degrees(-17 + n),
                  .pitch = degrees(-17 - 0.4 * n),
                  .field_of_view = degrees(60)};
    camera.room = "a";
    Budget budget{.frame = {64, 48, 1}};
    const LayerSet layers{Layer::ending, Layer::depth};
    const Frame led = render(world, camera, budget, test::with_layers(layers));
    budget.field.cones = false;
    const Frame alone = render(world, camera, budget, test::with_layers(layers));
    for (int y = 0; y < 48; ++y) {
      for (int x = 0; x < 64; ++x) {
        differ += led.codes(Layer::ending)(x, y) != alone.codes(Layer::ending)(x, y);
      }
    }
  }
  EXPECT_EQ(differ, 0);
}

TEST(Hits, NothingIsOpenWhereAWallMeetsAPortal) {
  // A hall between two portals, its walls going on beyond: from a hair before the seam to a hair
  // after it every lane meets the wall, at every scale of the other side.
  for (const double scale : {1.0, 0.1, 0.01}) {
    Scene scene;
    scene.materials.push_back({});
    scene.rooms.clear();
    for (const auto& [name, size] : {std::pair{"here", 1.0}, std::pair{"there", scale}}) {
      Room& room = scene.add_room(name);
      room.add(plane({0, -1, 0}, -2.5 * size).made_of(0));
      Portal end;
      end.name = name;
      end.opening = {.width = 5 * size, .height = 4 * size};
      end.stance = {.at = {name[0] == 'h' ? 2.8 : -2.8 * size, 0, 2 * size},
                    .heading = name[0] == 'h' ? pi : 0};
      end.to = PortalTarget{.portal = name[0] == 'h' ? "there" : "here"};
      room.portals.push_back(end);
    }
    const World world = compile(scene);
    Camera camera{
        .eye = {2.4, 2.2, 1.6}, .heading = std::atan2(0.3, 0.4), .field_of_view = degrees(0.5)};
    camera.field_axis = FieldAxis::horizontal;
    camera.room = "here";
    const Budget budget{.frame = {640, 4, 1}};
    const Frame frame =
        render(world, camera, budget,
               test::with_layers({Layer::ending, Layer::ray_distance, Layer::crossings}));
    int beyond = 0;
    for (int x = 0; x < 640; ++x) {
      ASSERT_EQ(frame.codes(Layer::ending)(x, 2), static_cast<std::uint32_t>(Ending::hit))
          << x << " at a scale of " << scale;
      EXPECT_NEAR(frame.values(Layer::ray_distance)(x, 2), 0.5, 0.01)
          << x << " at a scale of " << scale;
      beyond += frame.codes(Layer::crossings)(x, 2) > 0;
    }
    EXPECT_NEAR(beyond, 320, 5);
  }
}

TEST(Hits, ShadowsOfWhatIsNearALampLieWhereTheyFall) {
  // The lamp shines over the far upper edge of a bar half a meter away; what its shadow is off by
  // at the bar is six times that on the floor.
  Scene scene;
  scene.materials.push_back({.base = {0.8f, 0.8f, 0.8f}});
  Room& room = scene.room();
  room.add(join({plane({0, 0, 1}), place({0, 0, 1.5}, box({0.2, 8, 0.2}))}).made_of(0));
  room.light.ambient = {0.1f, 0.1f, 0.1f};
  room.light.lamps.push_back(Lamp{.place = {0.5, 0, 1.9}, .range = 12});
  const double edge = 0.5 - 1.9 / ((1.9 - 1.6) / (0.5 + 0.1));
  Camera camera = Camera::look_at({edge, -1.5, 1}, {edge, 0, 0}, 0.11);
  camera.field_axis = FieldAxis::horizontal;
  Budget budget{.frame = {400, 2, 1}};
  budget.light.corners = Corners::none;
  const Frame frame = render(compile(scene), camera, budget, test::with_layers({Layer::color}));
  int column = 0;
  float most = 0;
  for (int x = 1; x < 400; ++x) {
    const float jump =
        std::abs(frame.values(Layer::color)(x, 0) - frame.values(Layer::color)(x - 1, 0));
    if (jump > most) column = x;
    most = std::max(most, jump);
  }
  EXPECT_GT(most, 0.02f);
  // Half a millimeter a column; lanes start 3 mm above the floor.
  EXPECT_NEAR(column, 200, 20);
}

TEST(Hits, PruningChangesNoMoreThanItSays) {
  // Which part of the field lanes are asked for decides how long their first steps are; where they
  // end is the same within the tolerance, but for lanes that graze.
  long pixels = 0;
  long other = 0;
  long far = 0;
  for (std::uint64_t seed = 0; seed < 6; ++seed) {
    std::vector<Field> parts;
    for (std::uint32_t k = 0; k < 40; ++k) {
      const auto chance = [&](std::uint32_t which) {
        return random_uniform({.seed = seed, .pixel = k}, which);
      };
      const Vec3d at(3 * chance(0) - 1.5, 3 * chance(1) - 1.5, 2 * chance(2) - 1);
      const Field shape = k % 3 == 0   ? sphere(0.1 + 0.1 * chance(3))
                          : k % 3 == 1 ? box({0.2, 0.1 + 0.2 * chance(4), 0.3})
                                       : torus(0.15, 0.04);
      parts.push_back(place(at, shape, {chance(5), chance(6), 0}));
    }
    const Field made = join(0.05, std::move(parts));
    const Camera camera = Camera::look_at({4, -3, 1}, {0, 0, 0}, 0.7);
    Budget budget{.frame = {120, 90, 1}};
    const Frame pruned = shot(made, camera, budget);
    budget.field.pruning = false;
    const Frame whole = shot(made, camera, budget);
    for (int y = 0; y < 90; ++y) {
      for (int x = 0; x < 120; ++x) {
        ++pixels;
        if (pruned.codes(Layer::ending)(x, y) != whole.codes(Layer::ending)(x, y)) {
          ++other;
        } else if (std::isfinite(whole.values(Layer::depth)(x, y))) {
          far += std::abs(pruned.values(Layer::depth)(x, y) - whole.values(Layer::depth)(x, y)) >
                 2e-3f;
        }
      }
    }
  }
  EXPECT_LE(other, pixels / 10000);
  EXPECT_LE(far, pixels / 2000);
}

}  // namespace
}  // namespace photonlane
