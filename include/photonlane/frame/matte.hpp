#pragma once

///   const Matte matte = make_matte(world, camera, budget, {.of = MatteOf::material});
///   const float share = matte.share(x, y, glass);  // of the pixel that shows glass

#include <cstdint>
#include <functional>
#include <vector>

#include "photonlane/frame/render.hpp"

namespace photonlane {

/// What tells one thing in a matte from another: its material, its cell (of spheres: which one it
/// is), or the room it is seen in.
enum class MatteOf { material, cell, room };
template <>
inline constexpr std::array<std::string_view, 3> choice_names<MatteOf>{"material", "cell", "room"};

struct MatteOptions {
  MatteOf of = MatteOf::material;
  int ranks = 4;    ///< things that a pixel can show at most; of more, those that cover most
  int threads = 0;  ///< 0: as many as the machine has
  std::function<bool(double share)> progress;       ///< as of RenderOptions
  std::size_t memory_limit = std::size_t{8} << 30;  ///< bytes that making it may take
};

/// Which things each pixel shows, and how much of it each of them covers: by the same lanes as
/// those that frames of that budget color, so that shares are counts of color samples. What is
/// behind things that are at least half opaque is not seen.
struct Matte {
  MatteOf of = MatteOf::material;
  Size size{0, 0};
  static constexpr std::uint32_t nothing = 0xffffffffu;
  /// A plane for each rank, rows from above: the first has what covers most, of two that cover
  /// alike the lower number; `nothing` with share 0 where a pixel shows fewer things.
  std::vector<std::vector<std::uint32_t>> things;
  std::vector<std::vector<float>> shares;
  std::size_t left_out = 0;  ///< pixels that show more things than there are ranks

  /// How much of a pixel a thing covers, as far as the ranks tell.
  float share(int x, int y, std::uint32_t thing) const;
  /// How much of a pixel anything covers, as far as the ranks tell.
  float covered(int x, int y) const;
};

/// Casts as many lanes a pixel as the budget has samples, without their colors. Throws Error
/// (input) for ranks that are not 1 to 32, Error (usage) for planes and for frames of another
/// scale than 1, and what render() throws.
Matte make_matte(const World& world, const Camera& camera, const Budget& budget,
                 const MatteOptions& options = {});

}  // namespace photonlane
