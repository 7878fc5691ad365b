#include "voxels/voxel_nearest.hpp"

#include <cmath>
#include <limits>

#include "voxels/any_node.hpp"

namespace photonlane {
namespace {

class Search {
 public:
  /// For what is set, or with `empty` for what is not.
  Search(const VoxelTree& tree, const Vec3d& place, const std::vector<bool>& counts, bool empty)
      : tree_(tree), place_(place), counts_(counts), empty_(empty) {}

  void run() {
    if (empty_) {
      // All around the grid is empty too.
      for (int axis = 0; axis < 3; ++axis) {
        for (const double wall :
             {0.0, static_cast<double>(tree_.size[static_cast<std::size_t>(axis)])}) {
          const double away = std::abs(place_[axis] - wall);
          if (away * away >= square) continue;
          square = away * away;
          where = place_;
          where[axis] = wall;
        }
      }
    }
    look(AnyVoxelNode::root_of(tree_));
  }

  double square = std::numeric_limits<double>::infinity();
  Vec3d where{0, 0, 0};
  std::uint32_t value = 0;

 private:
  bool is_wanted(std::uint32_t of) const { return (counts_.empty() || counts_[of]) != empty_; }

  void look(const AnyVoxelNode& at) {
    const std::uint64_t mask = at.mask();
    const std::uint64_t full = at.full();
    const std::uint64_t some = mask & ~full;
    const double side = at.child_side();
    double squares[3][4];
    double nearest[3][4];
    for (int axis = 0; axis < 3; ++axis) {
      for (int k = 0; k < 4; ++k) {
        const double low = at.low[static_cast<std::size_t>(axis)] + side * k;
        nearest[axis][k] = std::clamp(place_[axis], low, low + side);
        const double off = place_[axis] - nearest[axis][k];
        squares[axis][k] = off * off;
      }
    }
    // Children of one value at once, the others by how near they may be.
    struct Candidate {
      double square;
      unsigned child;
    };
    Candidate candidates[64];
    std::size_t count = 0;
    std::uint64_t left = empty_ ? ~(counts_.empty() ? full : 0) : mask;
    for (; left != 0; left &= left - 1) {
      const auto child = static_cast<unsigned>(std::countr_zero(left));
      const double away =
          squares[0][child & 3] + squares[1][child >> 2 & 3] + squares[2][child >> 4];
      if (away >= square) continue;
      if (has_bit(some, child)) {
        std::size_t k = count++;
        for (; k > 0 && candidates[k - 1].square > away; --k) candidates[k] = candidates[k - 1];
        candidates[k] = {away, child};
        continue;
      }
      const bool set = has_bit(mask, child);
      std::uint32_t own = 0;
      if (set && (!empty_ || !counts_.empty())) own = at.value(child);
      if (set ? !is_wanted(own) : !empty_) continue;
      square = away;
      where = {nearest[0][child & 3], nearest[1][child >> 2 & 3], nearest[2][child >> 4]};
      value = own;
    }
    for (std::size_t k = 0; k < count; ++k) {
      if (candidates[k].square < square) look(at.child(candidates[k].child));
    }
  }

  const VoxelTree& tree_;
  Vec3d place_;
  const std::vector<bool>& counts_;
  bool empty_;
};

}  // namespace

NearestVoxel nearest_voxel(const VoxelTree& tree, const Vec3d& place,
                           const std::vector<bool>& counts) {
  NearestVoxel result;
  std::uint32_t here = 0;
  if ((place.array() >= 0).all() && (place.array() < tree.side()).all()) {
    here = voxel_at(tree, {static_cast<std::int32_t>(std::floor(place.x())),
                           static_cast<std::int32_t>(std::floor(place.y())),
                           static_cast<std::int32_t>(std::floor(place.z()))});
  }
  const bool inside = here != 0 && (counts.empty() || counts[here]);
  Search search(tree, place, counts, inside);
  search.run();
  if (std::isinf(search.square)) return result;
  result.found = true;
  result.distance = std::sqrt(search.square) * (inside ? -1 : 1);
  result.place = search.where;
  result.value = inside ? here : search.value;
  return result;
}

}  // namespace photonlane
