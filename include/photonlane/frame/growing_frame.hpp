#pragma once

/// A picture of path-traced light that gets better for as long as one likes:
///
///   budget.light.transport = Transport::paths;
///   GrowingFrame growing(world, camera, budget);
///   while (growing.error().rmse > 0.01) growing.take(8);
///   const Frame picture = growing.picture();

#include <functional>
#include <memory>
#include <optional>
#include <vector>

#include "photonlane/frame/frame.hpp"
#include "photonlane/world/camera.hpp"
#include "photonlane/world/world.hpp"

namespace photonlane {

/// How a growing frame is made, as far as it does not change the picture.
struct GrowingOptions {
  int threads = 0;  ///< 0: as many as the machine has
  /// Whether the layers bounces, emission, albedo and light.N are kept, at 128 bytes a pixel;
  /// frame.denoise keeps what it needs by itself.
  bool tell = false;
  bool meters = false;  ///< whether the layers cost and work are
  std::size_t memory_limit = std::size_t{8} << 30;
  std::optional<PixelPart> part;  ///< only these pixels, as RenderOptions says
};

/// The error that is left in what a growing frame has gathered, before frame.denoise.
struct GrowingError {
  double rmse = 0;           ///< of display values, root mean square; infinite below 2 samples
  double low = 0, high = 0;  ///< in between it lies 90 times of 100
};

/// What has been gathered, to be kept and gone on with.
struct GatheredLight {
  PixelPart part;
  std::vector<double> sums;    ///< red, green, blue of even samples, then of odd ones
  std::vector<float> largest;  ///< red, green, blue of each pixel's largest sample; 1 where odd
  std::vector<std::uint32_t> samples;          ///< of each block of 8x8 pixels
  std::vector<std::uint32_t> before, planned;  ///< of them, where samples are adaptive
  double round_from = 0, round_to = 0;         ///< samples a pixel, as mean
  double asked = 0;
  double clamped = 0, light = 0;  ///< sums of radiance that was taken away, and of all thrown back
  Tally tally;
  double cast_ms = 0;
};

/// Samples of the paths of one picture, added up. The same samples give the same bytes, whether
/// they were taken at once or in parts, and by any number of threads.
class GrowingFrame {
 public:
  /// Throws what render() throws for the world, the camera and the budget, and Error (usage) where
  /// light.transport is not paths, or the world is a plane.
  GrowingFrame(World world, Camera camera, Budget budget, GrowingOptions options = {});
  ~GrowingFrame();
  GrowingFrame(GrowingFrame&&) noexcept;
  GrowingFrame& operator=(GrowingFrame&&) noexcept;

  /// Takes so many samples more, as mean over the pixels. `progress` as in RenderOptions: where it
  /// says to stop, what was taken so far stays, and Error (cancelled) is thrown.
  void take(int samples, const std::function<bool(double share)>& progress = {});
  /// Takes samples for so many milliseconds and a little more; pixels may differ by one.
  void take_for(double milliseconds);
  /// Samples a pixel, as mean.
  double samples() const;

  /// The picture so far: color, display and the layers that are told (see GrowingOptions), and
  /// those of what lanes meet. Throws Error (usage) for layers that are not there, and where no
  /// sample was taken.
  Frame picture(LayerSet layers = {Layer::color}) const;
  /// How far it is from what it would be with samples without end, from what changes where a part
  /// of each pixel's samples is left out (the jackknife of Quenouille and Tukey, as in Efron and
  /// Stein, "The Jackknife Estimate of Variance", 1981): one half or the other, and its largest
  /// sample where that is brighter than all others together.
  GrowingError error() const;

  /// Forgets all, for another picture.
  void restart(World world, Camera camera, Budget budget);

  const GatheredLight& gathered() const;
  /// Goes on from what was gathered before. Throws Error (input) where that is of another size.
  void go_on_from(GatheredLight gathered);

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

/// Radiance as a display shows it, in linear light: as it is up to 0.6, and above that ever more
/// slowly toward 1.
float tone(float radiance);

}  // namespace photonlane
