#pragma once

///   const double steps = static_cast<double>(frame.tally.steps) /
///   static_cast<double>(frame.tally.lanes);

#include <cstdint>

namespace photonlane {

/// What was spent: counted work, which does not depend on the machine's mood.
struct Tally {
  std::uint64_t lanes = 0;
  std::uint64_t steps = 0;
  std::uint64_t hits = 0;             ///< lanes that ended at a solid
  std::uint64_t escaped = 0;          ///< lanes that met nothing up to the far limit
  std::uint64_t spent = 0;            ///< lanes that ran out of budget
  std::uint64_t shadow_lanes = 0;     ///< toward lights and over half spaces
  std::uint64_t bounces = 0;          ///< from wet floors, mirrors and through bodies
  std::uint64_t cut_bounces = 0;      ///< that were past the limit
  std::uint64_t crossings = 0;        ///< of portals, by lanes of pixels and bounces
  std::uint64_t bent_steps = 0;       ///< of lanes on their way through swells
  std::uint64_t secondary_steps = 0;  ///< of both
  std::uint64_t evaluations = 0;      ///< of fields, at one place each, for all lanes

  double steps_per_lane() const {
    return lanes == 0 ? 0 : static_cast<double>(steps) / static_cast<double>(lanes);
  }
  Tally& operator+=(const Tally& other) {
    lanes += other.lanes;
    steps += other.steps;
    hits += other.hits;
    escaped += other.escaped;
    spent += other.spent;
    shadow_lanes += other.shadow_lanes;
    bounces += other.bounces;
    cut_bounces += other.cut_bounces;
    crossings += other.crossings;
    bent_steps += other.bent_steps;
    secondary_steps += other.secondary_steps;
    evaluations += other.evaluations;
    return *this;
  }
  bool operator==(const Tally&) const = default;
};

}  // namespace photonlane
