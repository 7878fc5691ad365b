#pragma once

/// The camera that shows known places at known pixels:
///
///   const CameraMatch found = match_camera(marks, {1920, 1080});
///   if (found.unsure.empty()) plate.camera = found.camera;

#include <array>
#include <span>
#include <string>
#include <vector>

#include "photonlane/plates/plate.hpp"

namespace photonlane {

/// What is sought beside the eye, the direction and the field of view; what is not is as it is in a
/// camera that is not shifted, has square pixels and does not distort.
struct MatchOptions {
  bool shift = false;   ///< seeks the lens shift: takes eight pairs or more
  bool aspect = false;  ///< seeks the aspect of pixels: takes seven pairs or more
  /// Seeks the lens's distortion (Camera::distortion_k1): takes one pair more than without.
  bool distortion = false;
  /// A pair is an outlier where it is off by more pixels than this, and by more than four times the
  /// spread of the others.
  double least_outlier = 1;
};

struct CameraMatch {
  Camera camera;
  std::vector<double> errors;         ///< pixels, of each pair
  std::vector<std::size_t> outliers;  ///< pairs that the camera does not go by
  double rms = 0;                     ///< pixels, of the others
  /// One standard deviation of what was found, by the spread of the errors: meters of the eye along
  /// x, y and z; degrees of the direction; degrees of the field of view.
  std::array<double, 3> eye_spread{};
  double turn_spread = 0;
  double field_spread = 0;
  double distortion_spread = 0;     ///< of distortion_k1, where that was sought
  std::vector<std::string> unsure;  ///< what cannot be told from these pairs, in words
};

/// Seeks a camera by a linear start (Hartley and Zisserman, "Multiple View Geometry in Computer
/// Vision", 2nd edition, 2004, chapters 4 and 7) from six pairs at a time, of which the one is
/// taken that fits most (Fischler and Bolles, "Random Sample Consensus", 1981), and then by least
/// squares (Marquardt, "An Algorithm for Least-Squares Estimation of Nonlinear Parameters", 1963).
/// Places may lie in one plane. The same pairs give the same camera. Throws Error (input) for fewer
/// than six pairs, places on one line, pairs that no camera shows, and numbers that are not finite.
CameraMatch match_camera(std::span<const PlateMark> pairs, Size size,
                         const MatchOptions& options = {});

}  // namespace photonlane
