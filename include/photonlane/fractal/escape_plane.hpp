#pragma once

///   scene.plane = EscapePlane{.power = 3, .palette_length = 60};
///   camera.window.center = {Decimal(std::string_view("-0.743")),
///   Decimal(std::string_view("0.131"))}; camera.window.width = Decimal(0.01);

#include <optional>
#include <span>
#include <vector>

#include "photonlane/base/decimal.hpp"
#include "photonlane/base/knob.hpp"

namespace photonlane {

/// What a step does to z before it takes the power.
enum class PlaneFamily {
  power,      ///< nothing
  conjugate,  ///< turns the sign of its imaginary part
  folded      ///< takes the signs off both parts
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<PlaneFamily>{"power", "conjugate",
                                                                           "folded"};

/// What the colors of points outside tell.
enum class PlaneTells {
  count,     ///< after how many steps they escape
  smooth,    ///< the same without edges between one number and the next
  distance,  ///< how far the edge of the inside is
  trap       ///< how near their orbits come to a figure
};
template <>
inline constexpr std::array<std::string_view, 4> choice_names<PlaneTells>{"count", "smooth",
                                                                          "distance", "trap"};

enum class TrapShape { point, cross, ring };
template <>
inline constexpr std::array<std::string_view, 3> choice_names<TrapShape>{"point", "cross", "ring"};

/// A figure that orbits may come near to.
struct OrbitTrap {
  TrapShape shape = TrapShape::point;
  double x = 0, y = 0;
  double radius = 0.5;  ///< of rings
};

std::span<const Knob<OrbitTrap>> orbit_trap_knobs();

/// A plane whose every point is iterated until it escapes: z becomes z^power + c. Of each point
/// that is c and z starts at 0, or, where `julia` is set, that is c and z starts at the point.
struct EscapePlane {
  PlaneFamily family = PlaneFamily::power;
  int power = 2;  ///< 2 to 8
  std::optional<DecimalPoint> julia;
  double escape_radius = 64;  ///< a point has escaped whose z is farther from 0

  PlaneTells tells = PlaneTells::smooth;
  std::vector<Color> palette{{0.02f, 0.03f, 0.08f},
                             {0.05f, 0.22f, 0.28f},
                             {0.55f, 0.62f, 0.35f},
                             {0.93f, 0.82f, 0.55f},
                             {0.55f, 0.16f, 0.12f}};
  double palette_length = 40;  ///< steps, pixels or units from the first color round to it again
  double palette_shift = 0;    ///< of that length
  bool equalize = false;       ///< colors share the pixels evenly
  Color inside{0.004f, 0.005f, 0.01f};
  std::optional<Color> undecided;  ///< of points out of steps; none: as all that is spent
  OrbitTrap trap;
};
std::span<const Knob<EscapePlane>> escape_plane_knobs();

/// Throws Error (input) for values out of range and palettes without colors.
void validate(const EscapePlane& plane);

/// The part of a plane that a frame shows: `width` is that of the frame, and pixels are square.
struct PlaneWindow {
  DecimalPoint center{Decimal(-0.5), Decimal(0.0)};
  Decimal width{3.5};
  double rotation = 0;  ///< radians: what stands upright in the frame leans so far to the left
};
std::span<const Knob<PlaneWindow>> plane_window_knobs();

/// Throws Error (input) for widths of zero or below, and centers of fewer digits than the width
/// needs, with how many are missing.
void validate(const PlaneWindow& window);

/// The point at a place of the frame: (0, 0) is its top left corner, (0.5, 0.5) the middle of the
/// first pixel. To as many digits as the window needs.
DecimalPoint plane_point(const PlaneWindow& window, Size size, double x, double y);

/// Where a point is in the frame, in pixels; the same the other way round.
Vec2d frame_place(const PlaneWindow& window, Size size, const DecimalPoint& point);

/// The window in which the point at a place of the frame stays where it is and all else is so many
/// times as large. Throws Error (input) for factors that are not above 0.
PlaneWindow zoomed(const PlaneWindow& window, Size size, double x, double y, double factor);

/// The windows of a steady zoom: each is smaller, or larger, than the one before by the same
/// factor, the last is that wide and has `to` in its middle, and on the way that point stays where
/// it is but for coming to the middle. Throws Error (input) for fewer than two frames, widths of
/// zero or below, and places of fewer digits than the last width needs.
std::vector<PlaneWindow> zoom_windows(const PlaneWindow& from, Size size, const DecimalPoint& to,
                                      const Decimal& width, int frames);

/// The window moved by so many pixels: what was at (x, y) is at (x - right, y - down).
PlaneWindow panned(const PlaneWindow& window, Size size, double right, double down);

}  // namespace photonlane
