#pragma once

/// A picture that was made elsewhere, with its depth, as a part of a room: lanes end where its
/// depth says that something stands.
///
///   Plate plate;
///   plate.camera = camera;  // the one it was made with
///   plate.red = {.size = {1920, 1080}, .values = pixels, .across = 4, .down = 4 * 1920};
///   plate.green = ..., plate.blue = ...;
///   plate.depth = {.size = {1920, 1080}, .values = distances, .across = 1, .down = 1920};
///   plate.means = {.kind = DepthKind::ray};
///   scene.room().add(plate);

#include <array>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "photonlane/lane/solid.hpp"
#include "photonlane/world/camera.hpp"

namespace photonlane {

/// What the numbers of a plate's depth are: meters along the view axis or along the pixel's own
/// ray, or what a depth buffer holds.
enum class DepthKind { axis, ray, buffer };
template <>
inline constexpr std::array<std::string_view, 3> choice_names<DepthKind>{"axis", "ray", "buffer"};

/// How the numbers of a depth buffer go from the near plane to the far one: 0 to 1, 1 to 0, or -1
/// to 1.
enum class BufferRange { zero_to_one, one_to_zero, minus_one_to_one };
template <>
inline constexpr std::array<std::string_view, 3> choice_names<BufferRange>{
    "zero_to_one", "one_to_zero", "minus_one_to_one"};

struct PlateDepth {
  DepthKind kind = DepthKind::axis;
  double unit = 1;       ///< meters for 1, of distances
  double nearest = 0.1;  ///< meters along the axis: the near plane, of buffers
  double farthest = 0;   ///< meters along the axis: the far plane; 0: it is at infinity
  BufferRange range = BufferRange::zero_to_one;
  bool linear = false;  ///< of buffers: even in meters, not in their inverse
};
std::span<const Knob<PlateDepth>> plate_depth_knobs();

/// The distance along the view axis that a number of a plate's depth means, in meters; infinite
/// for what is at the far plane or behind it, NaN for what cannot be: below 0, before the near
/// plane, no number. `slant` is how far a ray runs for a meter along the axis.
double plate_distance(const PlateDepth& means, double number, double slant);
/// The number that means it.
double plate_number(const PlateDepth& means, double distance, double slant);

/// Numbers of pixels in memory of the caller's, which is not copied; rows from above.
struct PlateImage {
  Size size{0, 0};
  const float* values = nullptr;        ///< of the upper left pixel
  std::ptrdiff_t across = 1;            ///< floats from a pixel to the next one
  std::ptrdiff_t down = 0;              ///< floats from a row to the next one
  std::shared_ptr<const void> owner{};  ///< keeps the memory; null: the caller does

  float at(int x, int y) const { return values[y * down + x * across]; }
};

/// A place that is known where it is seen in a plate.
struct PlateMark {
  double x = 0, y = 0;  ///< pixels from the left and from above; the first pixel's middle is at 0.5
  Vec3d place{0, 0, 0};
};

/// The picture as it is seen from its own camera. What stands there is known where it is seen, and
/// taken to be `thickness` deep. Its colors have their light in them: they are shown as they are,
/// less the light that other parts of the scene keep away.
struct Plate final : SolidPart {
  Camera camera;
  PlateImage red, green, blue;  ///< linear light
  PlateImage alpha;             ///< colors are multiplied by it; no values: all of the plate covers
  PlateImage depth;
  PlateDepth means;
  /// Of the picture, where the images have pixels around it as well; 0: that of the images.
  Size frame{0, 0};
  /// Which way its surfaces face, along the world's axes, of any length but 0; no values, numbers
  /// that are none, and those that face away from a lane: as the depth says.
  std::array<PlateImage, 3> normal{};
  int material = -1;       ///< index into the scene's materials; -1: a plain one
  double thickness = 0.5;  ///< meters along the view axis
  /// Neighbors whose distances differ by more than this share are different things.
  double gap = 0.05;
  /// What is less than this share of its distance behind the surface is taken for being on it.
  double tolerance = 1e-3;
  /// What check() holds its depth and its camera against: places that are known, and the height of
  /// a level floor of which some is seen.
  std::vector<PlateMark> marks{};
  std::optional<double> ground{};
  /// Where it is from, as lines of a scene file; empty: from nowhere that one could name.
  std::string source_text{};

  std::string_view kind() const override { return "plate"; }
  void use_materials(const std::function<void(int)>& use) const override { use(material); }
  /// Throws Error (input) for pictures of different sizes, numbers that are no distances, and
  /// cameras that are not planar; Error (usage) where there is no color or depth.
  void validate(std::size_t materials) const;
  /// Throws as validate().
  std::shared_ptr<const Solid> compile(const SolidContext& context) const override;
};
std::span<const Knob<Plate>> plate_knobs();

/// The same plate without the distortion of its lens (Camera::distortion_k1), in new memory: as
/// many pixels as all of it lies on so, about five times as many at most, each by those around it
/// where they show the same surface. Plates are compiled so; its marks are left out.
Plate straightened(const Plate& plate);

/// What of a plate does not fit what is known of it, by its marks and its ground: the meaning of
/// its depth, rows from below, a camera that sees the marks elsewhere. Each fault names what would
/// fit better, where something does.
std::vector<std::string> find_plate_faults(const Plate& plate);

}  // namespace photonlane
