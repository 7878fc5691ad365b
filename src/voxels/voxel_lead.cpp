#include "voxels/voxel_lead.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "voxels/any_node.hpp"

namespace photonlane {
namespace {

constexpr double infinite = std::numeric_limits<double>::infinity();

/// All lanes of a wedge, along one axis: where they are lies between two lines.
struct Spread {
  double low = infinite, high = -infinite;         ///< of places
  double slowest = infinite, fastest = -infinite;  ///< of ways

  /// When some lane may be over `edge`, and when some still may be under it.
  double reaches(double edge) const { return fastest > 0 ? (edge - high) / fastest : -infinite; }
  double falls_to(double edge) const { return slowest < 0 ? (edge - low) / slowest : -infinite; }
  double rises_over(double edge) const { return slowest > 0 ? (edge - low) / slowest : infinite; }
  double falls_under(double edge) const { return fastest < 0 ? (edge - high) / fastest : infinite; }

  void times(double from, double to, double& in, double& out) const {
    in = std::max(reaches(from), falls_to(to));
    out = std::min(rises_over(to), falls_under(from));
  }
};

class Lead {
 public:
  Lead(const Spread* spreads, double best) : best_(best) {
    for (int axis = 0; axis < 3; ++axis) {
      spreads_[axis] = spreads[axis];
      if (spreads[axis].fastest + spreads[axis].slowest < 0) turned_ |= 3u << (2 * axis);
    }
  }

  void look(const AnyVoxelNode& at) {
    double in[3][4];
    double out[3][4];
    const double side = at.child_side();
    for (std::size_t axis = 0; axis < 3; ++axis) {
      for (int k = 0; k < 4; ++k) {
        const double low = at.low[axis] + side * k;
        spreads_[axis].times(low, low + side, in[axis][k], out[axis][k]);
      }
    }
    const std::uint64_t mask = at.mask();
    const std::uint64_t some = mask & ~at.full();
    for (unsigned k = 0; k < 64; ++k) {
      // Those that are likely to be near come first.
      const unsigned child = k ^ turned_;
      if (!has_bit(mask, child)) continue;
      const double first =
          std::max(std::max(in[0][child & 3], in[1][child >> 2 & 3]), in[2][child >> 4]);
      if (!(first < best_)) continue;
      const double last =
          std::min(std::min(out[0][child & 3], out[1][child >> 2 & 3]), out[2][child >> 4]);
      if (first > last || last < 0) continue;
      if (!has_bit(some, child) || at.level == brick_level + 1) {
        best_ = first;
      } else {
        look(at.child(child));
      }
    }
  }
  double best() const { return best_; }

 private:
  Spread spreads_[3];
  unsigned turned_ = 0;
  double best_;
};

}  // namespace

double lead_lanes(const VoxelTree& tree, const VoxelLanes& lanes, std::size_t first,
                  std::size_t last) {
  Spread spreads[3];
  double farthest = 0;
  for (int axis = 0; axis < 3; ++axis) {
    Spread& own = spreads[axis];
    for (std::size_t i = first; i < last; ++i) {
      own.low = std::min(own.low, lanes.from[axis][i]);
      own.high = std::max(own.high, lanes.from[axis][i]);
      own.slowest = std::min(own.slowest, lanes.way[axis][i]);
      own.fastest = std::max(own.fastest, lanes.way[axis][i]);
    }
    // Where lanes do not go there, where they are decides; a wedge that is too wide is not worth
    // it.
    if (own.slowest == 0 || own.fastest == 0) return 0;
    if (own.high - own.low > 64) return 0;
    // Cells beside it do not matter.
    own.low -= 1e-6;
    own.high += 1e-6;
  }
  for (std::size_t i = first; i < last; ++i) farthest = std::max(farthest, lanes.limit[i]);
  Lead lead(spreads, farthest);
  lead.look(AnyVoxelNode::root_of(tree));
  // A little less, for what times are rounded by.
  return std::max(0.0, lead.best() * (1 - 1e-9));
}

}  // namespace photonlane
