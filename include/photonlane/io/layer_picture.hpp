#pragma once

///   io::write_png("steps.png", io::layer_picture(frame, Layer::steps, {.range = io::ValueRange{0,
///   100}}));

#include <optional>
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
  bool logarithmic = false;  ///< equal ratios are equally far apart on the ramp; low is above 0
  struct Swatch {
    std::array<std::uint8_t, 3> color;
    std::string name;
  };
  std::vector<Swatch> swatches;  ///< named colors instead of, or beside, the ramp
  bool has_ramp = true;

  /// Where a number lies on the ramp, 0 to 1 within the range.
  double share(double number) const;
};

/// The values at the two ends of the ramp.
struct ValueRange {
  double low = 0;
  double high = 1;
};

/// Throws Error (usage) for a layer whose pixels are not numbers on the ramp, and for a range that
/// does not rise.
void check_range(Layer layer, const ValueRange& range);

struct LayerPictureOptions {
  bool legend = true;  ///< the bar below
  /// Of a layer of numbers. Without it: from the least to the largest value of the pixels, but for
  /// the few extremes that would leave the others without contrast; from 0 where the least is near
  /// it. Counts that spread over decades lie on a logarithmic ramp.
  std::optional<ValueRange> range = std::nullopt;
  Legend* told = nullptr;  ///< becomes what the colors mean; has no title where they are colors
};

/// Any layer as a picture: color and display as they are, numbers by the ramp with a legend below
/// that names the share of pixels outside the range, codes in colors that tell them apart. Throws
/// Error (usage) where the frame does not have the layer, and as check_range does.
Picture layer_picture(const Frame& frame, Layer layer, const LayerPictureOptions& options = {});

/// The error of every pixel by the ramp, from 0 to the largest, with a legend below.
Picture difference_picture(const Difference& difference, bool legend = true);

/// The picture with the bar below it; at least 360 pixels wide.
Picture with_legend(const Picture& picture, const Legend& legend);

}  // namespace photonlane::io
