#include "measure/ladders.hpp"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <optional>
#include <set>

#include "photonlane/measure/named_setting.hpp"

namespace photonlane {
namespace {

/// Which way along numbers leads to accuracy.
enum class Finer { more, less, listed };

struct Rungs {
  std::string_view knob;
  Finer finer;
  std::vector<std::string> values;  ///< the most accurate first
};

/// What is worth trying of each knob, whatever the scene.
const std::vector<Rungs>& table() {
  static const std::vector<Rungs> all{
      {"frame.samples", Finer::more, {"16", "8", "4", "2", "1"}},
      {"frame.scale", Finer::more, {"1", "0.75", "0.5", "0.33"}},
      {"frame.upscale", Finer::listed, {"guided", "bilinear", "nearest"}},
      {"number", Finer::listed, {"double", "float"}},
      {"field.method", Finer::listed, {"sphere", "relaxed", "slope"}},
      {"field.tolerance", Finer::less, {"2e-05", "0.0002", "0.001", "0.004", "0.016"}},
      {"field.growth", Finer::less, {"0", "0.0002", "0.001", "0.004"}},
      {"field.steps", Finer::more, {"4096", "512", "128", "64", "32"}},
      {"field.refinement", Finer::more, {"6", "3", "1", "0"}},
      {"field.normals", Finer::listed, {"exact", "difference"}},
      {"field.detail", Finer::less, {"0", "0.5", "1", "2", "4"}},
      {"spheres.detail", Finer::less, {"0", "0.5", "1", "2", "4"}},
      {"voxels.detail", Finer::less, {"0", "0.5", "1", "2", "4"}},
      {"field.cones", Finer::listed, {"false", "true"}},
      {"texture.sampling", Finer::listed, {"filtered", "bilinear", "nearest"}},
      {"texture.taps", Finer::more, {"16", "8", "4", "2", "1"}},
      {"light.sun_shadows", Finer::listed, {"traced", "probe", "none"}},
      {"light.lamp_shadows", Finer::listed, {"traced", "none"}},
      {"light.corners", Finer::listed, {"sampled", "neighbors", "none"}},
      {"light.corner_samples", Finer::more, {"64", "16", "8", "4"}},
      {"light.wet_floor", Finer::listed, {"traced", "mirrored", "none"}},
      {"light.softness", Finer::listed, {"sampled", "quick", "hard"}},
      {"light.soft_samples", Finer::more, {"64", "16", "8", "4", "2"}},
      {"light.fog", Finer::listed, {"sampled", "quick"}},
      {"light.fog_samples", Finer::more, {"32", "16", "8", "4"}},
      {"light.crossings", Finer::more, {"2", "1", "0"}},
      {"bounces.limit", Finer::more, {"16", "8", "6", "4", "3", "2", "1", "0"}},
      {"passes.limit", Finer::more, {"32", "12", "6", "4", "2", "1", "0"}},
      {"crossings.limit", Finer::more, {"64", "32", "16", "8", "4", "2", "1"}},
      {"crossings.method", Finer::listed, {"fifth", "third", "second"}},
      {"crossings.tolerance", Finer::less, {"0.0001", "0.001", "0.01", "0.05"}},
      {"crossings.steps", Finer::more, {"400", "100", "50", "25"}},
      {"plane.number", Finer::listed, {"auto", "double", "float"}},
      {"plane.iterations", Finer::more, {"8000", "4000", "2000", "1000", "500", "250", "125"}},
      {"plane.limit", Finer::listed, {"auto", "given"}},
      {"plane.samples", Finer::listed, {"all", "edges"}},
      {"plane.periodicity", Finer::listed, {"true", "false"}},
      {"plane.derivative", Finer::listed, {"true", "false"}},
  };
  return all;
}

std::optional<double> number_of(const std::string& text) {
  double value = 0;
  const char* const past = text.data() + text.size();
  const auto [end, problem] = std::from_chars(text.data(), past, value);
  if (problem != std::errc() || end != past) return std::nullopt;
  return value;
}

bool same(const std::string& a, const std::string& b) {
  if (a == b) return true;
  const auto one = number_of(a);
  const auto two = number_of(b);
  return one && two && *one == *two;
}

/// Finds a value, or puts it where it belongs.
std::size_t find_or_put(std::vector<std::string>& values, const std::string& own, Finer finer) {
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (same(values[i], own)) return i;
  }
  const auto number = number_of(own);
  std::size_t at = 0;
  if (number && finer != Finer::listed) {
    while (at < values.size()) {
      const double other = number_of(values[at]).value_or(0);
      if (finer == Finer::more ? other < *number : other > *number) break;
      ++at;
    }
  }
  values.insert(values.begin() + static_cast<std::ptrdiff_t>(at), own);
  return at;
}

}  // namespace

bool changes_prices(const std::string& knob) {
  static const std::set<std::string, std::less<>> known{
      "number",        "texture.sampling",  "texture.taps",
      "field.normals", "field.method",      "crossings.method",
      "plane.number",  "plane.periodicity", "plane.derivative"};
  return known.contains(knob);
}

std::vector<Ladder> ladders(const Budget& base, bool plane) {
  const Budget best = base.reference();
  std::vector<Ladder> all;
  for (const Rungs& rungs : table()) {
    if (!rungs.knob.starts_with("frame.") && rungs.knob.starts_with("plane.") != plane) continue;
    const Knob<Budget>* entry = find_knob(budget_knobs(), rungs.knob);
    Ladder ladder{std::string(rungs.knob), rungs.values, 0};
    const std::string own = knob_text(*entry, base);
    const std::string top = knob_text(*entry, best);
    ladder.own = find_or_put(ladder.values, own, rungs.finer);
    // What leads away from the picture that is wanted is no accuracy.
    std::size_t first = 0;
    if (rungs.finer == Finer::listed) {
      const auto found = std::find(ladder.values.begin(), ladder.values.end(), top);
      if (found != ladder.values.end()) {
        first = static_cast<std::size_t>(found - ladder.values.begin());
      }
      first = std::min(first, ladder.own);
    }
    ladder.values.erase(ladder.values.begin(),
                        ladder.values.begin() + static_cast<std::ptrdiff_t>(first));
    ladder.own -= first;
    if (ladder.values.size() > 1) all.push_back(std::move(ladder));
  }
  return all;
}

Ladder ladder_of(const Vary& vary, const Settings& base) {
  Ladder ladder{vary.knob, vary.values, 0};
  const auto rungs = std::find_if(table().begin(), table().end(),
                                  [&](const Rungs& one) { return one.knob == vary.knob; });
  const Finer finer = rungs == table().end() ? Finer::listed : rungs->finer;
  if (finer != Finer::listed) {
    std::stable_sort(ladder.values.begin(), ladder.values.end(),
                     [&](const std::string& a, const std::string& b) {
                       const double one = number_of(a).value_or(0);
                       const double two = number_of(b).value_or(0);
                       return finer == Finer::more ? one > two : one < two;
                     });
  }
  ladder.own = find_or_put(ladder.values, setting_text(base, vary.knob), finer);
  ladder.ordered = rungs != table().end();
  if (ladder.ordered && finer == Finer::listed) {
    const std::string own = ladder.values[ladder.own];
    const auto rank = [&](const std::string& value) {
      return std::find(rungs->values.begin(), rungs->values.end(), value) - rungs->values.begin();
    };
    std::stable_sort(ladder.values.begin(), ladder.values.end(),
                     [&](const std::string& a, const std::string& b) { return rank(a) < rank(b); });
    ladder.own = static_cast<std::size_t>(
        std::find(ladder.values.begin(), ladder.values.end(), own) - ladder.values.begin());
  }
  return ladder;
}

}  // namespace photonlane
