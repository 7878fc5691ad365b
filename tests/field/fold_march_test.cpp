#include <gmock/gmock.h>

#include <cmath>
#include <optional>

#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/folds.hpp"
#include "support/scenes.hpp"
#include "support/targets.hpp"

namespace photonlane {
namespace {

using namespace field;
using test::box_ball;
using test::scattered;
using ::testing::HasSubstr;

TEST(Tint, SaysHowNearWhenAndOnWhichSides) {
  const auto share = [](const Field& field, const Vec3d& place) {
    return CompiledField(field).material(place);
  };
  const Field halves = iterate(1, {steps::mirror(SpaceAxis::x)}, sphere(1));
  const Field by_fold = halves.tinted({TintBy::fold, {4, 5, 6}});
  EXPECT_EQ(share(by_fold, {0.9, 0, 0}).material, 4);
  EXPECT_NEAR(share(by_fold, {0.9, 0, 0}).share, 0, 1e-12);
  // The first fold is worth half of the row: its middle, 5.
  const SurfaceMaterial other = share(by_fold, {-0.9, 0, 0});
  EXPECT_EQ(other.share < 0.5 ? other.material : other.other, 5);

  // Two mirrors a time, three times over: on which sides of them a place is, counted by hand.
  const double scale = 0.5;
  const Vec3d at(0.4, 0.3, 0.2);
  const Field three = iterate(3,
                              {steps::mirror(SpaceAxis::x), steps::mirror(SpaceAxis::y),
                               steps::place(at, {0, 0, 0}, scale)},
                              sphere(1))
                          .tinted({TintBy::fold, {0, 1}});
  for (const Vec3d& place : scattered(200, 1)) {
    Vec3d now = place;
    double sides = 0;
    for (int i = 0; i < 3; ++i) {
      if ((now.x() < 0) != (now.y() < 0)) sides += std::exp2(-1 - i);
      now = (Vec3d(std::abs(now.x()), std::abs(now.y()), now.z()) - at) / scale;
    }
    ASSERT_NEAR(share(three, place).share, sides, 1e-12) << place;
  }

  // Steps of a ball's quaternions go to the length squared each time.
  const Field ball = julia({0, 0, 0, 0}, 3).tinted({TintBy::trap, {7, 8}});
  const double reach = ball.bounds().high.x();
  EXPECT_NEAR(share(ball, {0.9, 0, 0}).share, std::pow(0.9, 8) / reach, 1e-9);
  const Field deep = julia({0, 0, 0, 0}, 3).tinted({TintBy::depth, {7, 8}});
  EXPECT_NEAR(share(deep, {0.9, 0, 0}).share, 1, 1e-12);
  EXPECT_NEAR(share(deep, {1.1, 0, 0}).share, 1.0 / 3, 1e-12);
  EXPECT_EQ(share(deep, {1.1, 0, 0}).other, 8);

  EXPECT_THROW(sphere(1).tinted({TintBy::trap, {0, 1}}), Error);
  EXPECT_THROW(bulb().tinted({TintBy::trap, {0}}), Error);
}

Scene shown(const Field& field) {
  Scene scene;
  scene.wall({.base = {0.7f, 0.5f, 0.3f}});
  scene.wall({.base = {0.2f, 0.5f, 0.7f}});
  scene.room().add(made_of(0, field));
  return scene;
}

TEST(Folds, GiveTheSameBytesForEveryVectorWidthAndThreadCount) {
  const Camera camera = Camera::look_at({0.6, -3.4, 1.5}, {0, 0, 0}, degrees(45));
  const Field tinted = bulb(8, 8).tinted({TintBy::trap, {0, 1}});
  for (const Field& field : {join({place({-0.8, 0, 0}, sponge(1, 3)), place({0.7, 0, 0}, tinted)}),
                             join({place({-0.8, 0, 0}, gasket(GasketForm::tetrahedron, 0.9, 5)),
                                   place({0.9, 0, 0}, julia({-0.2, 0.6, 0.2, 0}))}),
                             place({0, 0, 0}, box_ball(), {0, 0, 0}, 0.2)}) {
    const World world = compile(shown(field));
    for (const NumberType number : {NumberType::float32, NumberType::float64}) {
      Budget budget{.frame = {37, 25, 1}, .number = number};
      budget.field.detail = 1;
      std::optional<std::uint64_t> expected;
      test::for_each_target([&](const char* target) {
        for (const int threads : {1, 2}) {
          const Frame frame = render(world, camera, budget,
                                     test::with_layers({Layer::color, Layer::depth}, threads));
          const std::uint64_t hash =
              test::hash_of(frame, Layer::color) ^ test::hash_of(frame, Layer::depth);
          if (!expected) expected = hash;
          EXPECT_EQ(hash, *expected) << target;
        }
      });
    }
  }
}

TEST(Folds, LeftOutBelowAPixelStayWithinIt) {
  const World world = compile(shown(sponge(2, 8)));
  const Camera camera = Camera::look_at({2.6, -5.2, 3.1}, {0, 0, 0}, degrees(40));
  Budget budget{.frame = {120, 90, 1}};
  budget.number = NumberType::float64;
  budget.field.tolerance = 1e-6;
  budget.field.growth = 0;
  const auto frame = [&](double detail) {
    budget.field.detail = detail;
    return render(world, camera, budget, test::with_layers({Layer::depth}));
  };
  const Frame full = frame(0);
  const Frame cut = frame(1);
  EXPECT_LT(cut.tally.steps, full.tally.steps);
  const double pixel = 2 * std::tan(degrees(20)) / 120;
  std::size_t both = 0;
  std::size_t far = 0;
  for (int y = 0; y < 90; ++y) {
    for (int x = 0; x < 120; ++x) {
      const double a = full.values(Layer::depth)(x, y);
      const double b = cut.values(Layer::depth)(x, y);
      if (!(a < 100) || !(b < 100)) continue;
      ++both;
      // What is left out was taken out of more: what is met is never farther.
      ASSERT_LT(b, a + 1e-4);
      far += a - b > 30 * pixel * a;
    }
  }
  EXPECT_GT(both, 2000u);
  EXPECT_LT(far, both / 20);
}

TEST(Folds, ArePrunedWithoutAChange) {
  const Field petal = julia({-0.2, 0.6, 0.2, 0}, 6);
  std::vector<Field> parts{
      plane({0, 0, 1}, -1),
      place({0, 0, 0.2}, bulb(8, 5), {0, 0, 0}, 0.6),
      join(0.2,
           {place({1.5, 0, 0}, bulb(3, 5), {0, 0, 0}, 0.5), place({1.5, 0, -0.6}, sphere(0.4))}),
      carve({place({-1.5, 0, 0}, box({1, 1, 1})), place({-1.5, 0, 0.4}, petal, {0, 0, 0}, 0.4)}),
      place({0, 2, 0}, repeat({0.9, 0, 0}, {3, 1, 1}, place({0, 0, 0}, petal, {0, 0, 0}, 0.25))),
      place({0, -2, -0.4}, around(5, place({0.8, 0, 0}, bulb(4, 4), {0, 0, 0}, 0.2))),
      offset(0.05, place({2.4, 1.5, 0}, bulb(2, 6), {0, 0, 0}, 0.3)),
      place({-2.4, 1.5, 0}, box_ball(), {0, 0, 0}, 0.06),
      place({-1.2, -1.4, -0.5}, sponge(0.7, 3), {0.3, 0.2, 0}),
      place({1.2, -1.4, -0.5}, gasket(GasketForm::octahedron, 0.5, 3))};
  // Enough of them for groups of neighbors.
  for (int i = 0; i < 24; ++i) {
    const double angle = 2 * pi * i / 24;
    const Vec3d at(3.2 * std::cos(angle), 3.2 * std::sin(angle), -0.6);
    parts.push_back(place(at, i % 3 == 0 ? petal : sphere(1), {0, 0, angle}, 0.25));
  }
  const World few = compile(shown(join({parts.begin(), parts.begin() + 10})));
  const World many = compile(shown(join(parts)));
  const Camera camera = Camera::look_at({4, -5, 3.2}, {0, 0, -0.2}, degrees(55));
  for (const World* world : {&few, &many}) {
    test::for_each_target([&](const char* target) {
      for (const NumberType number : {NumberType::float32, NumberType::float64}) {
        Budget budget{.frame = {test::effort(24), test::effort(18), 1}, .number = number};
        budget.far_limit = 40;
        // Equal steps are the same ones whatever is left out.
        budget.field.method = FieldMethod::fixed;
        budget.field.increment = 0.08;
        budget.field.pruning = false;
        const Frame whole = render(*world, camera, budget, test::with_layers(test::everything));
        budget.field.pruning = true;
        const Frame pruned = render(*world, camera, budget, test::with_layers(test::everything));
        EXPECT_GT(pruned.tally.hits, pruned.tally.lanes / 2);
        for (const Layer layer : {Layer::color, Layer::depth, Layer::steps}) {
          EXPECT_EQ(test::hash_of(pruned, layer), test::hash_of(whole, layer))
              << target << " " << name_of(layer) << " of " << (world == &few ? "few" : "many");
        }
      }
    });
  }
}

TEST(Folds, OutsideOfAllOfThemValuesNeverLeadPast) {
  // From everywhere around, a step of the value ends at most at the surface.
  for (const Field& field : {sponge(2, 5), ball_sponge(2, 3), gasket(GasketForm::tetrahedron, 1, 6),
                             gasket(GasketForm::octahedron, 1, 5), tetrahedron(1), octahedron(1)}) {
    const auto faults = find_stretch_faults(field, 2000);
    EXPECT_TRUE(faults.empty()) << name_of(field.kind());
    // And the value is no more than the way to a box around it, and what is inside lies in it.
    const CompiledField compiled(field);
    for (const Vec3d& place : scattered(400, 1.5)) {
      const Vec3d out = (place.cwiseAbs() - field.bounds().high).cwiseMax(0.0);
      ASSERT_GE(std::max(compiled.distance(place), 0.0), out.norm() - 1e-12)
          << name_of(field.kind());
    }
  }
}

TEST(Folds, RefuseWhatTheyCannotBe) {
  const auto refusal = [](const auto& make) -> std::string {
    try {
      make();
      return "accepted";
    } catch (const Error& error) {
      return error.message();
    }
  };
  EXPECT_THAT(refusal([] { sponge(0, 3); }), HasSubstr("size"));
  EXPECT_THAT(refusal([] { sponge(1, 40); }), HasSubstr("times"));
  EXPECT_THAT(refusal([] { bulb(1); }), HasSubstr("power"));
  EXPECT_THAT(refusal([] {
                iterate(3, {steps::plane({0, 0, 0})}, sphere(1));
              }),
              HasSubstr("step 1: fold: a normal of no length"));
  EXPECT_THAT(refusal([] {
                iterate(3, {steps::place({0, 0, 0}, {0, 0, 0}, 0)}, sphere(1));
              }),
              HasSubstr("a scale of 0"));
  EXPECT_THAT(refusal([] { iterate(3, {steps::ball(2, 1)}, sphere(1)); }),
              HasSubstr("inner is more than outer"));
  EXPECT_THAT(refusal([] { iterate(3, {steps::start(0.5)}, sphere(1)); }),
              HasSubstr("expected `reach`"));
  EXPECT_EQ(refusal([] {
              iterate(3, {steps::start(0.5)}, sphere(1), FoldKeep::last, FoldDerivative::scalar, 3);
            }),
            "accepted");
}

}  // namespace
}  // namespace photonlane
