#pragma once

///   const Difference difference = compare(rough, exact);
///   const bool good = holds(parse_limit("rmse=0.01"), difference);

#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "photonlane/frame/frame.hpp"

namespace photonlane {

/// How far a frame is from the one it should be. Color errors are of display values in [0, 1]
/// (sRGB), so that an error is as large as it looks; a byte's step is 1/255.
struct Difference {
  double rmse = 0;             ///< root mean square over pixels and channels
  std::optional<double> psnr;  ///< peak signal to noise, dB; nothing where the frames are equal
  double ssim = 1;             ///< structural similarity, 1 where equal
  double largest = 0;          ///< largest error of a channel
  int largest_x = 0;           ///< its pixel
  int largest_y = 0;
  std::optional<double> share_other;   ///< share of pixels that met another cell, face or ending
  std::optional<double> depth_median;  ///< meters, where both hit something
  std::optional<double> depth_p99;     ///< 99th percentile of the same

  Size size;
  std::vector<float> errors;  ///< largest channel error of each pixel, row after row
};

/// Compares a frame with a reference of the same size. Needs color or display in both; share_other
/// and the depth errors need those layers in both. Throws Error (input) where sizes differ and
/// where a color or a depth is not a number (an infinite depth is one that met nothing), Error
/// (usage) for frames without pixels and without colors.
Difference compare(const Frame& frame, const Frame& reference);

/// A number of a Difference by name: what limits and tables are made of.
struct Metric {
  std::string_view name;
  std::string_view unit;
  std::string_view help;
  bool more_is_better = false;
  std::optional<double> (*value)(const Difference&) = nullptr;
};
std::span<const Metric> metrics();

/// What a difference may be at most (at least, where more is better).
struct Limit {
  const Metric* metric = nullptr;
  double bound = 0;
};

/// Reads "metric=value"; throws Error (usage) with the nearest right word.
Limit parse_limit(std::string_view text);

/// True where the difference keeps to the limit. Equal frames keep every limit of psnr. Throws
/// Error (usage) where the frames do not have what the metric needs.
bool holds(const Limit& limit, const Difference& difference);

/// A frame at another size, so that settings of different resolutions can be compared: colors
/// bilinear between pixel centers, all other layers from the nearest pixel.
Frame resample(const Frame& frame, Size size);

}  // namespace photonlane
