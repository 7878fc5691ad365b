// The races of planes: escape time in float and double against the plain loop, and deep windows by
// perturbation against iterating every point in as many digits.

#include "textbook/planes.hpp"
#include "photonlane/photonlane.hpp"
#include "race.hpp"

namespace photonlane::bench {
namespace {

constexpr int width = 640;
constexpr int height = 480;

/// A point that comes to a cycle of two after 24 steps, where spirals go on without end.
const std::string deep_x =
    "-0.7432918908524302029316243259725107571763485581207765818323304541609283472574785977186"
    "5325713319743723120153647258830558392964407368976443155547858783671829086112702514563490"
    "93475723782447785897870136499666854616770893624297063741";
const std::string deep_y =
    "0.13124055230879760477084590658147814307711415115858400673133394264412244858044638287048"
    "0954706252875970677052063732022415970266637841138129372769738057663432382579532944343312"
    "21637798812448945442982388708600825164664895200410399649";

Look look_at(const DecimalPoint& center, const Decimal& span, PlaneNumber number, int limit) {
  Scene scene;
  scene.plane = EscapePlane{.escape_radius = 2};
  Camera camera;
  camera.window = {.center = center, .width = span};
  Budget budget{.frame = {width, height, 1}};
  budget.plane.number = number;
  budget.plane.iterations = limit;
  return {compile(scene), camera, budget, Layer::steps};
}

/// What the frame and the plain loop say of each pixel's steps: the share that differs.
double share_other(const Frame& frame, const std::vector<std::uint32_t>& counts,
                   std::uint32_t limit) {
  std::size_t other = 0;
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      const std::uint32_t count = counts[static_cast<std::size_t>(y) * width + x];
      // Points known to stay end before the limit.
      other += count < limit && frame.codes(Layer::steps)(x, y) != count;
    }
  }
  return static_cast<double>(other) / (width * height);
}

void race_escape(const std::string& name, const DecimalPoint& center, double span, int limit,
                 double bar_double, double bar_float, std::vector<Race>& races) {
  Look doubles = look_at(center, Decimal(span), PlaneNumber::float64, limit);
  Look floats = look_at(center, Decimal(span), PlaneNumber::float32, limit);
  std::vector<std::uint32_t> counts(static_cast<std::size_t>(width) * height);
  const auto plain = [&] {
    textbook::escape_counts(center.x.value(), center.y.value(), span / width, width, height,
                            static_cast<std::uint32_t>(limit), counts);
  };
  std::vector<Runner> runners{{"double", [&] { doubles(); }, {}},
                              {"float", [&] { floats(); }, {}},
                              {"plain loop", plain, {}}};
  run_rounds(runners, 5);
  fmt::print("{}: {:.4f} % of the pixels other in double, {:.4f} % in float\n", name,
             100 * share_other(doubles.kept, counts, static_cast<std::uint32_t>(limit)),
             100 * share_other(floats.kept, counts, static_cast<std::uint32_t>(limit)));
  races.push_back(race(name + ": double / plain", runners[0], runners[2], bar_double));
  races.push_back(race(name + ": float / plain", runners[1], runners[2], bar_float));
  // What each way of telling the inside brings.
  const std::pair<const char*, bool PlaneBudget::*> ways[] = {
      {"forms", &PlaneBudget::forms}, {"periodicity", &PlaneBudget::periodicity}};
  std::vector<Runner> others{{"all", [&] { doubles(); }, {}}};
  std::vector<Look> without(2, doubles);
  for (std::size_t i = 0; i < 2; ++i) {
    without[i].budget.plane.*ways[i].second = false;
    others.push_back({fmt::format("no {}", ways[i].first), [&, i] { without[i](); }, {}});
  }
  run_rounds(others, 5);
  for (std::size_t i = 0; i < 2; ++i) {
    races.push_back(
        race(fmt::format("{}: {} / without", name, ways[i].first), others[0], others[i + 1], 0));
  }
}

void race_deep(const std::string& name, int places, std::vector<Race>& races) {
  const std::string span = fmt::format("1e-{}", places);
  const std::size_t digits = static_cast<std::size_t>(places) + 25;
  const DecimalPoint center{Decimal(std::string_view(deep_x).substr(0, digits)),
                            Decimal(std::string_view(deep_y).substr(0, digits))};
  constexpr std::uint32_t limit = 100000;
  Look deep = look_at(center, Decimal(std::string_view(span)), PlaneNumber::perturbation, limit);
  Look no_skips = deep;
  no_skips.budget.plane.skipping = false;
  constexpr int sampled = 60;
  const long bits = static_cast<long>(places * 3.33) + 80;
  int same = 0;
  const auto direct = [&] {
    same = 0;
    for (int i = 0; i < sampled; ++i) {
      const int x = i * 7919 % width;
      const int y = i * 104729 % height;
      const std::string spacing = fmt::format("{}e-{}", 1.0 / width, places);
      const std::uint32_t count = textbook::escape_count_in_bits(
          center.x.text(), center.y.text(), spacing, x + 0.5 - 0.5 * width, 0.5 * height - y - 0.5,
          bits, limit);
      same += deep.kept.has(Layer::steps) && deep.kept.codes(Layer::steps)(x, y) == count;
    }
  };
  std::vector<std::uint32_t> counts(static_cast<std::size_t>(width) * height);
  const auto plain = [&] {
    textbook::escape_counts(-0.75, 0, 3.5 / width, width, height, 2000, counts);
  };
  std::vector<Runner> runners{{"perturbation", [&] { deep(); }, {}},
                              {"60 points in all digits", direct, {}},
                              {"plain double loop, whole set, 2000 steps", plain, {}}};
  // Far down, steps in numbers beyond doubles take minutes without them.
  if (places < 100) runners.push_back({"without skips", [&] { no_skips(); }, {}});
  run_rounds(runners, 3);
  fmt::print("{}: {} of {} sampled points as in all digits; {:.0f} steps a lane\n", name, same,
             sampled, deep.kept.tally.steps_per_lane());
  Race one = race(name + ": perturbation / all digits", runners[0], runners[1], 0);
  const double points = static_cast<double>(width) * height / sampled;
  one.ratio *= points;
  one.spread *= points;
  one.bar = 1000;
  races.push_back(one);
  races.push_back(
      race(name + ": perturbation / whole set by the plain loop", runners[0], runners[2], 1));
  if (runners.size() > 3) {
    races.push_back(race(name + ": skips / without", runners[0], runners[3], 0));
  }
}

}  // namespace

void race_planes(const std::string& wanted, std::vector<Race>& races) {
  const auto run = [&](const std::string& name, const auto& work) {
    if (name.find(wanted) != std::string::npos) work(name);
  };
  run("planes, whole set", [&](const std::string& name) {
    race_escape(name, {Decimal(-0.75), Decimal(0.0)}, 3.5, 2000, 30, 45, races);
  });
  run("planes, edge", [&](const std::string& name) {
    race_escape(name, {Decimal(-0.7432918908), Decimal(0.1312405523)}, 1e-3, 2000, 5, 8, races);
  });
  run("planes, 1e-50", [&](const std::string& name) { race_deep(name, 50, races); });
  run("planes, 1e-200", [&](const std::string& name) { race_deep(name, 200, races); });
}

}  // namespace photonlane::bench
