#pragma once

#include <string>
#include <vector>

#include "photonlane/measure/sweep.hpp"

namespace photonlane {

/// Values of a knob that are worth trying, the most accurate first.
struct Ladder {
  std::string knob;
  std::vector<std::string> values;
  std::size_t own = 0;  ///< which of them the base has
  bool ordered = true;  ///< false: which are more accurate is not known
};

/// Whether a knob changes what the same counted work costs, so that only the clock tells its price.
bool changes_prices(const std::string& knob);

/// Those of every knob of a budget that trades cost for error. No value is more accurate than the
/// reference's: what the scene asks for in the first place, as soft shadows, stays. Of a plane, or
/// of rooms.
std::vector<Ladder> ladders(const Budget& base, bool plane);

/// The same of values that a user names; the base's own is put in where it is not among them.
Ladder ladder_of(const Vary& vary, const Settings& base);

}  // namespace photonlane
