#include "photonlane/field/fractal_generator.hpp"

#include <algorithm>
#include <cmath>

#include "field/scatter.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/field/compiled_field.hpp"

namespace photonlane {
namespace {

/// Numbers drawn one after another.
class Draw {
 public:
  Draw(std::int64_t seed, std::uint32_t attempt)
      : key_{.seed = static_cast<std::uint64_t>(seed), .sample = attempt} {}

  double between(double low, double high) {
    return low + (high - low) * static_cast<double>(random_uniform(key_, next_++));
  }
  int whole(int low, int high) {
    return low + static_cast<int>(
                     random_below(key_, next_++, static_cast<std::uint32_t>(high - low + 1)));
  }

 private:
  RandomKey key_;
  std::uint32_t next_ = 0;
};

/// As written with three digits, so that files say what was drawn.
double round3(double value) { return std::round(value * 1000) / 1000; }
double round_angle(double value) { return degrees(std::round(value / degrees(0.1)) * 0.1); }

Field tree(Draw& draw) {
  const double length = round3(draw.between(0.7, 1.2));
  const double scale = round3(draw.between(0.55, 0.74));
  std::vector<FoldStep> all;
  if (draw.whole(0, 1) == 0) {
    all.push_back(steps::wedge(draw.whole(2, 5)));
  } else {
    all.push_back(steps::mirror(SpaceAxis::x));
  }
  all.push_back(steps::place({round3(draw.between(0, 0.1)), 0, round3(0.95 * length)},
                             {0, round_angle(draw.between(degrees(18), degrees(55))),
                              round_angle(draw.between(0, degrees(120)))},
                             scale));
  return field::iterate(7, all,
                        field::capsule({0, 0, 0}, {0, 0, length}, round3(draw.between(0.07, 0.15))),
                        FoldKeep::all);
}

Field folds(Draw& draw) {
  std::vector<FoldStep> all;
  const int mirrors = draw.whole(1, 3);
  for (int axis = 0; axis < mirrors; ++axis) {
    all.push_back(steps::mirror(static_cast<SpaceAxis>(axis)));
  }
  for (int i = draw.whole(1, 2); i > 0; --i) {
    all.push_back(steps::plane({1, round3(draw.between(-1, 0)), round3(draw.between(-1, 0.3))}));
  }
  const auto angle = [&] { return round_angle(draw.between(degrees(-25), degrees(25))); };
  const double x = round3(draw.between(0.35, 0.7));
  const double y = round3(draw.between(0, 0.35));
  const double z = round3(draw.between(0, 0.35));
  const Vec3d turn(angle(), angle(), angle());
  all.push_back(steps::place({x, y, z}, turn, round3(draw.between(0.42, 0.6))));
  const Field part = draw.whole(0, 1) == 0 ? field::box({1, 1, 1}, 0.05) : field::sphere(0.6);
  return field::iterate(8, all, part, draw.whole(0, 2) == 0 ? FoldKeep::all : FoldKeep::last);
}

Field box_ball(Draw& draw) {
  const double scale = draw.whole(0, 1) == 0 ? draw.between(1.8, 2.6) : draw.between(-2.2, -1.4);
  return field::iterate(9,
                        {steps::box(), steps::ball(round3(draw.between(0.25, 0.7)), 1),
                         steps::place({0, 0, 0}, {0, 0, 0}, round3(1 / scale)), steps::start()},
                        field::sphere(round3(draw.between(1, 3))));
}

Field draw_one(FractalKind kind, Draw& draw) {
  switch (kind) {
    case FractalKind::any:
    case FractalKind::tree:
      return tree(draw);
    case FractalKind::folds:
      return folds(draw);
    case FractalKind::box_ball:
      return box_ball(draw);
    case FractalKind::bulb:
      return field::bulb(draw.whole(2, 11), draw.whole(4, 9));
    case FractalKind::julia:
      break;
  }
  return field::julia({round3(draw.between(-0.6, 0.3)), round3(draw.between(-0.7, 0.7)),
                       round3(draw.between(-0.6, 0.6)), round3(draw.between(-0.4, 0.4))},
                      9, round3(draw.between(-0.15, 0.15)));
}

/// How much of a field is seen: the radius of what there is, and the share of lines through its
/// ball that meet it, found at places along them.
struct Seen {
  Vec3d middle{0, 0, 0};
  double radius = 0;
  double share = 0;
};
Seen look_at(const Field& field) {
  const double reach = std::min(field.bounds().high.norm(), 50.0) / std::sqrt(3.0);
  const CompiledField compiled(field);
  const std::vector<Vec3d> starts =
      places_in({Vec3d::Constant(-reach), Vec3d::Constant(reach)}, 1024, 0xf01d);
  std::vector<Vec3d> at;
  std::vector<Vec3d> ways;
  for (std::size_t i = 0; i < starts.size(); ++i) {
    // Toward one side, from outside.
    Vec3d way(0, 0, 0);
    way[static_cast<Eigen::Index>(i % 3)] = i % 2 == 0 ? 1 : -1;
    at.push_back(starts[i] - (starts[i].dot(way) + 1.01 * reach) * way);
    ways.push_back(way);
  }
  const std::vector<Vec3d> from = at;
  for (int step = 0; step < 150; ++step) {
    const std::vector<double> values = compiled.distances(at);
    for (std::size_t i = 0; i < at.size(); ++i) at[i] += 0.7 * std::max(values[i], 0.0) * ways[i];
  }
  const std::vector<double> values = compiled.distances(at);
  Seen seen;
  std::vector<Vec3d> met;
  for (std::size_t i = 0; i < at.size(); ++i) {
    if (std::abs(values[i]) < 2e-3 * reach && (at[i] - from[i]).norm() < 2.1 * reach) {
      met.push_back(at[i]);
    }
  }
  if (met.empty()) return seen;
  for (const Vec3d& place : met) seen.middle += place / static_cast<double>(met.size());
  std::vector<double> lengths;
  for (const Vec3d& place : met) lengths.push_back((place - seen.middle).norm());
  std::sort(lengths.begin(), lengths.end());
  seen.radius = lengths[lengths.size() * 49 / 50];
  const double part = seen.radius / reach;
  seen.share = static_cast<double>(lengths.size()) / static_cast<double>(at.size()) / (part * part);
  return seen;
}

}  // namespace

std::span<const Knob<FractalRecipe>> fractal_recipe_knobs() {
  static const Knob<FractalRecipe> table[] = {
      knob<&FractalRecipe::seed>("seed", "", {0, 9e15}, "draws other parameters"),
      knob<&FractalRecipe::kind>("kind", "", {}, "what sort of fractal"),
  };
  return table;
}

Field make_fractal(const FractalRecipe& recipe) {
  validate_knobs(fractal_recipe_knobs(), recipe);
  // Its sort is that of the seed, however often it is drawn again.
  const int sort = Draw(recipe.seed, 1000).whole(1, 5);
  for (std::uint32_t attempt = 0;; ++attempt) {
    Draw draw(recipe.seed, attempt);
    const Field made = draw_one(
        recipe.kind == FractalKind::any ? static_cast<FractalKind>(sort) : recipe.kind, draw);
    if (!made.bounds().finite()) continue;
    const Seen seen = look_at(made);
    // Neither dust nor a ball, as far as a few lines tell; in the end whatever there is.
    const bool good =
        seen.share > 0.12 && seen.share < 2.5 && field::measured(made, 512).stretch() < 3;
    if (!good && attempt < 40) continue;
    const double radius = seen.radius > 0 ? seen.radius : made.bounds().high.x();
    const double scale = round3(1 / radius);
    const Vec3d at = -scale * seen.middle;
    return field::place({round3(at.x()), round3(at.y()), round3(at.z())}, made, {0, 0, 0}, scale);
  }
}

}  // namespace photonlane
