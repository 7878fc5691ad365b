// Per-target include: what of a field matters at a place.

#if defined(PHOTONLANE_FIELD_PLACES_INL_H_) == defined(HWY_TARGET_TOGGLE)
#ifdef PHOTONLANE_FIELD_PLACES_INL_H_
#undef PHOTONLANE_FIELD_PLACES_INL_H_
#else
#define PHOTONLANE_FIELD_PLACES_INL_H_
#endif

#include <hwy/highway.h>

#include <array>
#include <cmath>
#include <span>

#include "field/place_tree.hpp"
#include "field/regions-inl.h"

HWY_BEFORE_NAMESPACE();
namespace photonlane {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// A cube of a tree and what matters in it, and a little beyond it.
template <class Number>
struct PlaceCube {
  std::uint32_t part = 0;
  bool known = false;  ///< of places beyond the tree all matters
  Number clear = 0;    ///< as PlaceTree::Cell::clear
  Number low[3];
  Number side;
};

/// Looks up cubes of a tree, and makes those that are not there yet.
template <class D>
class Places {
  using Number = hn::TFromD<D>;

 public:
  Places(Machine<D, Plain<D>>& machine, const Tape& tape, PlaceTree& tree)
      : machine_(machine), regions_(tape), tape_(tape), tree_(tree), asked_(tree), cut_(tree) {
    for (int axis = 0; axis < 3; ++axis) low_[axis] = static_cast<Number>(tree.low()[axis]);
    const double leaves = std::ldexp(1.0, 2 * tree.levels());
    per_leaf_ = static_cast<Number>(leaves / tree.side());
    leaf_ = static_cast<Number>(tree.side() / leaves);
    leaves_ = static_cast<Number>(leaves);
  }

  /// Which block was looked up last; places near one another are in the same.
  struct Last {
    std::uint64_t around = ~std::uint64_t{0};
    std::uint32_t block = PlaceTree::none;
    std::uint32_t shift = 0;
  };

  PlaceCube<Number> find(const Number (&place)[3], Last& last) {
    PlaceCube<Number> cube;
    std::uint32_t at[3];
    for (int axis = 0; axis < 3; ++axis) {
      const Number share = (place[axis] - low_[axis]) * per_leaf_;
      if (!(share >= 0 && share < leaves_)) return cube;
      at[axis] = static_cast<std::uint32_t>(share);
    }
    cube.known = true;
    int shift = 2 * tree_.levels();
    std::uint32_t index = last.block;
    if (index != PlaceTree::none && around(at, last.shift + 2) == last.around) {
      shift = static_cast<int>(last.shift) + 2;
    } else {
      index = look_below(cube.part, at, shift, tree_.root());
    }
    // What was none is not made any more; leaves are the larger number.
    while (index - 1 < PlaceTree::leaf - 1) {
      shift -= 2;
      last.block = index;
      last.shift = static_cast<std::uint32_t>(shift);
      PlaceTree::Cell& cell =
          tree_.block(index)
              .cells[((at[2] >> shift & 3) * 4 + (at[1] >> shift & 3)) * 4 + (at[0] >> shift & 3)];
      cube.part = cell.part;
      cube.clear = static_cast<Number>(cell.clear);
      if (shift == 0) break;
      index = look_below(cube.part, at, shift, cell.below);
    }
    last.around = around(at, last.shift + 2);
    return set_box(at, shift, cube);
  }
  /// Fetches what find() will read first, if the place is in the block that was looked up last.
  void fetch(const Number (&place)[3], std::uint32_t block, std::uint32_t shift) const {
    if (block == PlaceTree::none) return;
    std::uint32_t at[3];
    for (int axis = 0; axis < 3; ++axis) {
      const Number share = (place[axis] - low_[axis]) * per_leaf_;
      if (!(share >= 0 && share < leaves_)) return;
      at[axis] = static_cast<std::uint32_t>(share) >> shift & 3;
    }
    __builtin_prefetch(&tree_.block(block).cells[(at[2] * 4 + at[1]) * 4 + at[0]]);
  }

  /// Good until another is asked for.
  std::span<const Tape::Instruction> part(std::uint32_t index) { return asked_.read(index); }

  /// Cubes matter this share of their side beyond their sides, so that a lane that ends at one does
  /// not need the next.
  static constexpr Number margin = Number(1) / 32;

 private:
  static std::uint64_t around(const std::uint32_t (&at)[3], std::uint32_t shift) {
    return std::uint64_t{at[0] >> shift} | std::uint64_t{at[1] >> shift} << 21 |
           std::uint64_t{at[2] >> shift} << 42;
  }

  std::uint32_t look_below(std::uint32_t part, const std::uint32_t (&at)[3], int shift,
                           std::atomic<std::uint32_t>& link) {
    const std::uint32_t index = link.load(std::memory_order_acquire);
    return index != PlaceTree::none ? index : make(part, at, shift, link);
  }

  PlaceCube<Number>& set_box(const std::uint32_t (&at)[3], int shift, PlaceCube<Number>& cube) {
    for (int axis = 0; axis < 3; ++axis) {
      cube.low[axis] = low_[axis] + static_cast<Number>(at[axis] >> shift << shift) * leaf_;
    }
    cube.side = static_cast<Number>(std::uint32_t{1} << shift) * leaf_;
    return cube;
  }

  /// Cuts the cube of 2^shift leaves a side around a leaf: what of its part matters in each child.
  std::uint32_t make(std::uint32_t whole, const std::uint32_t (&at)[3], int shift,
                     std::atomic<std::uint32_t>& link) {
    const StageScope stage(Work::prune);
    PlaceCube<Number> cube;
    set_box(at, shift, cube);
    const Number side = cube.side / 4;
    const Number more = margin * side;
    typename Regions<D>::Balls balls;
    for (std::uint32_t k = 0; k < PlaceTree::children; ++k) {
      Number low[3];
      Number high[3];
      for (int axis = 0; axis < 3; ++axis) {
        const Number from = cube.low[axis] + static_cast<Number>(k >> (2 * axis) & 3) * side;
        low[axis] = from - more;
        high[axis] = from + side + more;
      }
      balls.add(low, high);
    }
    regions_.find(machine_, cut_.read(whole), balls);
    std::array<PlaceTree::NewCell, PlaceTree::children> cells;
    for (std::size_t k = 0; k < PlaceTree::children; ++k) {
      const bool empty = regions_.empty(k);
      const double clear = empty ? static_cast<double>(regions_.value(k)) / tape_.stretch : 0;
      const Vec3d middle(static_cast<double>(balls.x[k]), static_cast<double>(balls.y[k]),
                         static_cast<double>(balls.z[k]));
      cells[k] = {tree_.keep(regions_.between(k, k)), static_cast<float>((1 - 1e-5) * clear),
                  empty || shift == 2 || static_cast<double>(side) <= tree_.small_enough(middle)};
    }
    return tree_.put(cells, link);
  }

  Machine<D, Plain<D>>& machine_;
  Regions<D> regions_;
  const Tape& tape_;
  PlaceTree& tree_;
  PlaceTree::Reader asked_, cut_;
  Number low_[3];
  Number per_leaf_, leaf_, leaves_;
};

}  // namespace HWY_NAMESPACE
}  // namespace photonlane
HWY_AFTER_NAMESPACE();

#endif
