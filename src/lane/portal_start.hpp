#pragma once

namespace photonlane {

/// Meters, as they look from the eye, that lanes out of a portal start on, so as not to meet a wall
/// in whose plane the portal lies.
constexpr double portal_start = 2e-4;

}  // namespace photonlane
