#pragma once

/// Places of a plane that others lie about, found from where one looks:
///
///   if (const auto copy = find_landmark(plane, around(camera.window))) {
///     camera.window = window_of(*copy, camera.window);
///   }

#include <cstdint>
#include <functional>
#include <optional>

#include "photonlane/fractal/escape_plane.hpp"

namespace photonlane {

enum class LandmarkKind {
  copy,      ///< the middle of a small copy of the whole figure: 0 comes back to itself
  branching  ///< where branches meet: the orbit of 0 comes into a cycle that it was not in
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<LandmarkKind>{"copy", "branching"};

/// A place of a plane that others lie about.
struct PlaneLandmark {
  LandmarkKind kind = LandmarkKind::copy;
  DecimalPoint place;           ///< to as many digits as its size needs, and 15 more
  std::uint64_t preperiod = 0;  ///< steps until the cycle, of branchings
  std::uint64_t period = 0;     ///< steps of the cycle
  Decimal size{0.0};            ///< of copies: how large it is, of what it is a copy of
  double turned = 0;            ///< of copies: radians to the left
};

struct LandmarkSearch {
  DecimalPoint near;
  Decimal within{0.1};  ///< how far from there it may lie
  LandmarkKind kind = LandmarkKind::copy;
  std::uint64_t most_steps = 20000;  ///< of orbits that are tried; 2000 at most for branchings
  /// Called now and then; return false to stop: Error (cancelled) is thrown.
  std::function<bool()> progress;
};

/// The landmark of the shortest orbit in a disc, or nothing where none of so few steps is there.
/// The disc's image after n steps is taken for a disc whose middle is z_n and whose radius is that
/// times |dz_n/dc|: n is a period where it holds 0 (of branchings: where those of two steps meet),
/// and Newton's method goes on from there in as many digits as it takes. The size of a copy is that
/// of the map which n steps are near to it, z -> a z^p + b c, for which 1/(b a^(1/(p-1))) of the
/// plane is as the whole is for z -> z^p + c (Douady and Hubbard, "On the dynamics of
/// polynomial-like mappings", 1985).
///
/// Throws Error (usage) for planes that are not of the power family, or whose c is fixed (julia),
/// and Error (input) for a disc without radius.
std::optional<PlaneLandmark> find_landmark(const EscapePlane& plane, const LandmarkSearch& search);

/// A search in what a window shows: no farther from its middle than half its width.
LandmarkSearch around(const PlaneWindow& window, LandmarkKind kind = LandmarkKind::copy);

/// The window that shows a copy as `before` would show the whole, four times as wide as its size;
/// of branchings the one before with the place in its middle.
PlaneWindow window_of(const PlaneLandmark& landmark, const PlaneWindow& before);

}  // namespace photonlane
