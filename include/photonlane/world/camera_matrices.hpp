#pragma once

/// The camera that another program drew with, by its two matrices:
///
///   CameraMatrices theirs{.projection = projection, .view = view};
///   theirs.world = WorldAxes::y_up_left_handed;
///   const Camera camera = camera_of(theirs, {1920, 1080});

#include <array>
#include <span>

#include "photonlane/world/camera.hpp"

namespace photonlane {

/// How 16 numbers make a matrix that stands left of points: row after row, or column after column.
/// Matrices that stand right of points are the transposed ones: they have the other order.
enum class MatrixOrder { rows, columns };
template <>
inline constexpr std::array<std::string_view, 2> choice_names<MatrixOrder>{"rows", "columns"};

/// Where y of the projected picture grows to.
enum class ClipY { up, down };
template <>
inline constexpr std::array<std::string_view, 2> choice_names<ClipY>{"up", "down"};

/// Between which numbers the projection puts what it does not clip away.
enum class ClipDepth { zero_to_one, minus_one_to_one };
template <>
inline constexpr std::array<std::string_view, 2> choice_names<ClipDepth>{"zero_to_one",
                                                                         "minus_one_to_one"};

/// Which axis of a world leads upward, and whether x, y, z are a right-handed system. Ours is z_up,
/// right-handed. Theirs is turned so that x stays and up is up.
enum class WorldAxes { z_up, y_up, z_up_left_handed, y_up_left_handed };
template <>
inline constexpr std::array<std::string_view, 4> choice_names<WorldAxes>{
    "z_up", "y_up", "z_up_left_handed", "y_up_left_handed"};

struct CameraMatrices {
  std::array<double, 16> projection{};  ///< from their view space to the picture
  std::array<double, 16> view{};        ///< from their world to their view space
  MatrixOrder order = MatrixOrder::rows;
  ClipY clip_y = ClipY::up;
  ClipDepth clip_depth = ClipDepth::zero_to_one;
  WorldAxes world = WorldAxes::z_up;
  double unit = 1;  ///< meters for 1 of their world
};
std::span<const Knob<CameraMatrices>> camera_matrices_knobs();

/// A place of their world in ours, and back.
Vec3d from_world(const CameraMatrices& theirs, const Vec3d& place);
Vec3d to_world(const CameraMatrices& theirs, const Vec3d& place);

/// The same view as a camera, for pictures of a size. Throws Error (input) for matrices that are no
/// perspective, that shear or mirror the picture, or that are not finite.
Camera camera_of(const CameraMatrices& theirs, Size size);

/// How a depth buffer made with those matrices tells distances along the view axis, in meters:
/// value = a + b / distance, for values from 0 to 1. Throws as camera_of().
struct BufferDepth {
  double a = 1, b = -1;
};
BufferDepth buffer_depth(const CameraMatrices& theirs);

}  // namespace photonlane
