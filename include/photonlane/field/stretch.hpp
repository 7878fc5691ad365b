#pragma once

///   for (const StretchFault& fault : find_stretch_faults(made)) {
///     printf("%s grows by %.2f for a meter\n", fault.part.c_str(), fault.found);
///   }

#include <string>
#include <vector>

#include "photonlane/field/compiled_field.hpp"

namespace photonlane {

/// A part of a field whose value changes by more than it says.
struct StretchFault {
  std::string part;      ///< the kinds from the field down to it: "join > place > function egg"
  double said = 1;       ///< what it says
  double found = 1;      ///< what it is at least
  Vec3d place{0, 0, 0};  ///< near where, in the part's own space
};

/// Samples a field and its parts for steps of value / stretch that would go through a surface, and
/// for functions and volumes that change by more than they say at all. Parts are told before what
/// they are in, which is not told for what its parts do.
std::vector<StretchFault> find_stretch_faults(const Field& field, std::size_t places = 4096);

/// A part of a field whose value is an estimate of a distance.
struct FieldEstimate {
  std::string part;   ///< as StretchFault::part
  double safety = 1;  ///< what steps are divided by
};

/// The estimates in a field; of one that field::measured gave, with what that found.
std::vector<FieldEstimate> find_estimates(const Field& field);

}  // namespace photonlane
