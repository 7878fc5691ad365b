#pragma once

#include <span>

#include "photonlane/photonlane.hpp"

namespace photonlane::live {

/// How large pictures may be that come at a rate: by the time that those before took for a pixel.
class Pace {
 public:
  /// By what sides of a picture are divided, from all of it to a sixteenth.
  static std::span<const double> steps();
  static Size divided(Size full, double by);

  /// What a picture of so many pixels took, until it could be sent.
  void took(double pixels, double ms);
  /// Nothing is known any more, as of another scene.
  void forget() { known_ = false; }
  bool known() const { return known_; }
  /// How long one would take, about.
  double guess_ms(Size size) const;
  /// The largest size that keeps to a time; once it holds one it takes another only for good
  /// reason, so that pictures do not flicker between two sizes.
  Size size_for(Size full, double ms);

 private:
  bool known_ = false;
  double ms_a_pixel_ = 0;
  std::size_t step_ = 6;
};

}  // namespace photonlane::live
