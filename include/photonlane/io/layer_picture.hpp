#pragma once

#include <string>
#include <vector>

#include "photonlane/io/picture.hpp"
#include "photonlane/measure/difference.hpp"

namespace photonlane::io {

/// The display values of a frame as a picture; they must be there.
Picture to_picture(const Frame& frame);

/// The ramp of every picture of numbers, from 0 to 1: from the blue-black of a pond over leaf and
/// straw to pale rose, lightness rising evenly so that equal steps look equal and it survives gray
/// printing.
std::array<std::uint8_t, 3> ramp(double share);

/// A bar below a picture that says what its colors mean.
struct Legend {
  std::string title;  ///< "distance along the view axis, m"
  double low = 0;
  double high = 1;
  struct Swatch {
    std::array<std::uint8_t, 3> color;
    std::string name;
  };
  std::vector<Swatch> swatches;  ///< named colors instead of, or beside, the ramp
  bool has_ramp = true;
};

/// Any layer as a picture: color and display as they are, numbers by the ramp with a legend below
/// (distances up to what 98 % of the pixels do not exceed), codes in colors that tell them apart.
/// `legend` false leaves the bar out. Throws Error (usage) where the frame does not have the layer.
Picture layer_picture(const Frame& frame, Layer layer, bool legend = true);

/// The error of every pixel by the ramp, from 0 to the largest, with a legend below.
Picture difference_picture(const Difference& difference, bool legend = true);

/// The picture with the bar below it; at least 360 pixels wide.
Picture with_legend(const Picture& picture, const Legend& legend);

}  // namespace photonlane::io
