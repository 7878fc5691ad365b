#pragma once

/// Steps that fold space, done again and again by field::iterate: what stands where they lead to
/// stands at all places that are led there.
///
///   using namespace photonlane;
///   // A tree: a stem, and two smaller trees that lean out of its top.
///   const Field tree = field::iterate(
///       7, {steps::mirror(SpaceAxis::x), steps::place({0, 0, 1}, {0, 0.5, 0}, 0.6)},
///       field::capsule({0, 0, 0}, {0, 0, 1}, 0.1), FoldKeep::all);

#include <array>
#include <string_view>
#include <vector>

#include "photonlane/base/knob.hpp"
#include "photonlane/base/vector.hpp"

namespace photonlane {

enum class SpaceAxis { x, y, z };
template <>
inline constexpr std::array<std::string_view, 3> choice_names<SpaceAxis>{"x", "y", "z"};

/// What one step does with a place.
enum class FoldKind {
  mirror,     ///< to the positive side of an axis
  fold,       ///< to the side of a plane that its normal points to
  wedge,      ///< into half of a share of the circle about the z axis
  place,      ///< from where what follows stands scaled, turned and moved, to its own space
  box_fold,   ///< what lies beyond a face of a box thrown back by it, axis by axis
  ball_fold,  ///< what lies within a ball turned outward
  inversion,  ///< the inside of a ball to its outside, and the outside in
  start,      ///< farther, by the place where the first step began
  stretch     ///< scaled along each axis
};
template <>
inline constexpr std::array<std::string_view, 9> choice_names<FoldKind>{
    "mirror", "fold", "wedge", "place", "box_fold", "ball_fold", "inversion", "start", "stretch"};

struct FoldStep {
  static constexpr std::size_t most_numbers = 7;
  FoldKind kind = FoldKind::mirror;
  std::array<double, most_numbers> numbers{};  ///< as fold_kind_info() says, in their order
};

/// One step each. Throws Error (input), as field::iterate does, only when they are used.
namespace steps {
FoldStep mirror(SpaceAxis axis);
FoldStep plane(const Vec3d& normal, double height = 0);
FoldStep wedge(int count);
/// As field::place says of what follows.
FoldStep place(const Vec3d& at, const Vec3d& turn = {0, 0, 0}, double scale = 1);
/// `half` from the middle to the faces.
FoldStep box(double half = 1);
/// Lengths within `outer` are divided by their square over outer's, those within `inner` by
/// inner's.
FoldStep ball(double inner = 0.5, double outer = 1);
FoldStep inversion(const Vec3d& at, double radius = 1);
FoldStep start(double share = 1);
FoldStep stretch(const Vec3d& factors);
}  // namespace steps

/// What is taken out of each part of a sponge.
enum class SpongeCut {
  cross,  ///< three square holes that cross
  ball
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<SpongeCut>{"cross", "ball"};

enum class GasketForm { tetrahedron, octahedron };
template <>
inline constexpr std::array<std::string_view, 2> choice_names<GasketForm>{"tetrahedron",
                                                                          "octahedron"};

/// After which iterations something stands where steps lead to.
enum class FoldKeep {
  last,  ///< after all of them
  all    ///< before the first and after each: stems, twigs, twigs of twigs
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<FoldKeep>{"last", "all"};

/// How an estimate of a distance is made from how much the steps stretch space.
enum class FoldDerivative {
  scalar,   ///< by one number that every step multiplies
  jacobian  ///< by all nine, which tell how much each way is stretched
};
template <>
inline constexpr std::array<std::string_view, 2> choice_names<FoldDerivative>{"scalar", "jacobian"};

/// What of the way of a place through its steps decides what its surface is made of.
enum class TintBy {
  trap,   ///< how near it came to the middle
  depth,  ///< after how many iterations that was
  fold    ///< on which sides of the folds it was, the first ones counting most
};
template <>
inline constexpr std::array<std::string_view, 3> choice_names<TintBy>{"trap", "depth", "fold"};

/// Materials along what is told by `by`, from 0 to 1; none: one material.
struct FoldTint {
  TintBy by = TintBy::trap;
  std::vector<int> materials;
};

}  // namespace photonlane
