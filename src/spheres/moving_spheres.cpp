#include "photonlane/spheres/moving_spheres.hpp"

#include <cmath>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "photonlane/base/error.hpp"
#include "spheres/node_box.hpp"
#include "spheres/sphere_order.hpp"
#include "spheres/sphere_store.hpp"

namespace photonlane {
namespace {

/// Not of what is no number either.
bool can_be(const Vec3d& place) {
  return std::abs(place.x()) <= farthest_sphere && std::abs(place.y()) <= farthest_sphere &&
         std::abs(place.z()) <= farthest_sphere;
}

double surface(const NodeBox& box) {
  const double x = box.high[0] - box.low[0];
  const double y = box.high[1] - box.low[1];
  const double z = box.high[2] - box.low[2];
  return x < 0 ? 0 : x * y + y * z + z * x;
}

/// What a node's child is within, as the node says it.
NodeBox box_of(const SphereNode& node, int child) {
  NodeBox box;
  for (int axis = 0; axis < 3; ++axis) {
    box.low[axis] = node.low_of(axis, child);
    box.high[axis] = node.high_of(axis, child);
  }
  return box;
}
NodeBox box_of(const SphereNode& node) {
  NodeBox box;
  for (int child = 0; child < 8; ++child) {
    if (node.has(child)) box.add(box_of(node, child));
  }
  return box;
}

}  // namespace

/// The store of the set, its arrays open for writing.
struct MovingSpheres::State {
  std::shared_ptr<SphereStore> store;
  SphereTree tree;
  SphereNode* nodes[SphereTree::most_levels];
  SphereEight* wide;
  std::vector<double> surface_made;  ///< of each part's boxes, as it was put in order
  double parts_made = 0;             ///< of parts in nodes above them
  std::uint64_t unlooked = 0;        ///< spheres moved since parts were last looked at

  SphereNode* level(int which) const { return nodes[which]; }
  std::uint64_t nodes_of_part(int which) const {
    return std::uint64_t{1} << (3 * (tree.part_levels - 1 - which));
  }

  /// A node of level 0, from its spheres; of others, from the nodes below.
  void refit(int which, std::uint64_t node) const {
    SphereNode& own = level(which)[node];
    const std::uint8_t axes = own.axes;
    NodeBox boxes[8];
    int count = 0;
    for (int child = 0; child < 8 && own.has(child); ++child) {
      NodeBox& box = boxes[count++];
      if (which > 0) {
        box = box_of(level(which - 1)[8 * node + static_cast<unsigned>(child)]);
        continue;
      }
      const SphereEight& eight = wide[tree.block_of(node, child)];
      for (int k = 0; k < 8; ++k) {
        box.add(eight.x[k] - tree.origin.x(), eight.y[k] - tree.origin.y(),
                eight.z[k] - tree.origin.z(), eight.radius[k]);
      }
    }
    enclose(boxes, count, own);
    own.axes = axes;
  }
  double surface_of(std::uint64_t part) const {
    double sum = 0;
    for (int which = 0; which < tree.part_levels; ++which) {
      const std::uint64_t count = nodes_of_part(which);
      for (std::uint64_t node = part * count; node < (part + 1) * count; ++node) {
        for (int child = 0; child < 8 && level(which)[node].has(child); ++child) {
          sum += surface(box_of(level(which)[node], child));
        }
      }
    }
    return sum;
  }
  double surface_of_parts() const {
    double sum = 0;
    for (std::uint64_t part = 0; part < store->head().parts; ++part) {
      sum += surface(box_of(level(tree.part_levels - 1)[part]));
    }
    return sum;
  }

  void put_in_order(std::uint64_t part) const;
  void refit_parts(std::span<const std::uint32_t> moved, bool all, int threads) const;
  void take_bounds();
};

/// A part's spheres in a new order, in the same blocks.
void MovingSpheres::State::put_in_order(std::uint64_t part) const {
  const std::uint64_t first = tree.first_block[part];
  const std::uint64_t blocks = tree.first_block[part + 1] - first;
  const std::uint64_t count = store->held()[part];
  const SphereHead& head = store->head();
  std::byte* const bytes = store->bytes();
  auto* const original = reinterpret_cast<std::uint32_t*>(bytes + store->arrays().original);
  auto* const slot_of = reinterpret_cast<std::uint32_t*>(bytes + store->arrays().slot_of);
  const std::vector<SphereEight> before(wide + first, wide + first + blocks);
  const std::vector<std::uint32_t> named(original + 8 * first, original + 8 * (first + blocks));
  const auto copy_of = [&](std::uint64_t at, std::uint64_t each) {
    const auto* const from = reinterpret_cast<const std::uint8_t*>(bytes + at) + 8 * first * each;
    return std::vector<std::uint8_t>(from, from + 8 * blocks * each);
  };
  const auto materials = copy_of(store->arrays().materials, head.material_bytes);
  const auto colors = copy_of(store->arrays().colors, head.color_bytes);
  NodeBox box;
  for (const SphereEight& eight : before) {
    for (int k = 0; k < 8; ++k) box.add(eight.x[k], eight.y[k], eight.z[k], 0);
  }
  double longest = 1e-300;
  for (int axis = 0; axis < 3; ++axis) longest = std::max(longest, box.high[axis] - box.low[axis]);
  const double steps = (0x1p32 - 1025) / longest;
  std::vector<SphereKey> keys(count);
  for (std::uint64_t i = 0; i < count; ++i) {
    const SphereEight& eight = before[i / 8];
    const double at[3] = {eight.x[i % 8], eight.y[i % 8], eight.z[i % 8]};
    for (int axis = 0; axis < 3; ++axis) {
      keys[i].at[axis] = static_cast<std::uint32_t>((at[axis] - box.low[axis]) * steps);
    }
    keys[i].index = static_cast<std::uint32_t>(i);
  }
  std::vector<std::uint8_t> axes[SphereTree::most_part_levels];
  SphereOrder().order(keys, tree.part_levels, SphereTree::block, axes);
  for (std::uint64_t i = 0; i < 8 * blocks; ++i) {
    const std::uint64_t from = keys[std::min(i, count - 1)].index;
    const SphereEight& eight = before[from / 8];
    SphereEight& to = wide[first + i / 8];
    to.x[i % 8] = eight.x[from % 8];
    to.y[i % 8] = eight.y[from % 8];
    to.z[i % 8] = eight.z[from % 8];
    to.radius[i % 8] = eight.radius[from % 8];
    const std::uint64_t slot = 8 * first + i;
    original[slot] = named[from];
    if (i < count) slot_of[named[from]] = static_cast<std::uint32_t>(slot);
    const auto put = [&](std::uint64_t at, const std::vector<std::uint8_t>& list,
                         std::uint64_t each) {
      auto* const own = reinterpret_cast<std::uint8_t*>(bytes + at) + slot * each;
      for (std::uint64_t k = 0; k < each; ++k) own[k] = list[from * each + k];
    };
    put(store->arrays().materials, materials, head.material_bytes);
    put(store->arrays().colors, colors, head.color_bytes);
  }
  for (int which = 0; which < tree.part_levels; ++which) {
    const std::uint64_t here = nodes_of_part(which);
    for (std::uint64_t node = 0; node < here; ++node) {
      SphereNode& own = level(which)[part * here + node];
      if (own.has(0)) refit(which, part * here + node);
      own.axes = axes[which][node];
    }
  }
}

MovingSpheres::MovingSpheres(const std::vector<Sphere>& spheres, int threads) : threads_(threads) {
  take(SphereSet::make(
      spheres,
      {.keeping = SphereKeeping::exact, .threads = threads, .working_file = {}, .progress = {}}));
}

MovingSpheres::~MovingSpheres() = default;

void MovingSpheres::take(std::shared_ptr<const SphereSet> set) {
  set_ = std::move(set);
  state_ = std::make_unique<State>();
  // The set was made here, and nobody else has it yet.
  state_->store = std::const_pointer_cast<SphereStore>(set_->shared_store());
  state_->tree = state_->store->tree();
  std::byte* const bytes = state_->store->bytes();
  for (int level = 0; level < state_->tree.levels; ++level) {
    state_->nodes[level] =
        reinterpret_cast<SphereNode*>(bytes + state_->store->arrays().nodes[level]);
  }
  state_->wide = reinterpret_cast<SphereEight*>(bytes + state_->store->arrays().wide);
  const std::uint64_t parts = state_->store->head().parts;
  state_->surface_made.resize(parts);
  parallel_for(threads_, parts,
               [&](std::size_t part) { state_->surface_made[part] = state_->surface_of(part); });
  state_->parts_made = state_->surface_of_parts();
}

SphereUpdate MovingSpheres::move(std::span<const Vec3d> centers) {
  if (centers.size() != set_->size()) {
    throw Error(ErrorKind::usage, fmt::format("places for {} spheres, of which there are {}",
                                              centers.size(), set_->size()));
  }
  for (std::size_t i = 0; i < centers.size(); ++i) {
    if (!can_be(centers[i])) {
      throw Error(ErrorKind::input, fmt::format("sphere {}: a place beyond -1e6 to 1e6 meters", i));
    }
  }
  const Stopwatch watch;
  const std::uint64_t blocks = state_->store->head().blocks;
  constexpr std::uint64_t at_once = 4096;
  parallel_for(threads_, (blocks + at_once - 1) / at_once, [&](std::size_t piece) {
    const std::uint64_t last = std::min(blocks, (piece + 1) * at_once);
    for (std::uint64_t block = piece * at_once; block < last; ++block) {
      for (std::uint64_t k = 0; k < 8; ++k) {
        const Vec3d& to = centers[state_->tree.original[8 * block + k]];
        state_->wide[block].x[k] = to.x();
        state_->wide[block].y[k] = to.y();
        state_->wide[block].z[k] = to.z();
      }
    }
  });
  SphereUpdate update = mend({}, true);
  update.seconds = watch.milliseconds() / 1000;
  return update;
}

SphereUpdate MovingSpheres::move(std::span<const std::uint32_t> which,
                                 std::span<const Vec3d> centers) {
  if (which.size() != centers.size()) {
    throw Error(ErrorKind::usage,
                fmt::format("{} spheres and {} places", which.size(), centers.size()));
  }
  for (std::size_t i = 0; i < which.size(); ++i) {
    if (which[i] >= set_->size()) {
      throw Error(ErrorKind::usage,
                  fmt::format("no sphere {}, of which there are {}", which[i], set_->size()));
    }
    if (!can_be(centers[i])) {
      throw Error(ErrorKind::input,
                  fmt::format("sphere {}: a place beyond -1e6 to 1e6 meters", which[i]));
    }
  }
  const Stopwatch watch;
  std::vector<std::uint32_t> nodes;
  const SphereTree& tree = state_->tree;
  const std::uint32_t* const first = tree.first_block;
  const std::uint64_t parts = state_->store->head().parts;
  for (std::size_t i = 0; i < which.size(); ++i) {
    std::uint64_t slot = state_->store->slot_of(which[i]);
    const std::uint64_t block = slot / 8;
    const auto part = static_cast<std::uint64_t>(
        std::upper_bound(first, first + parts, static_cast<std::uint32_t>(block)) - first - 1);
    // The last one of a part may be there several times.
    for (; slot < 8 * (block + 1) && tree.original[slot] == which[i]; ++slot) {
      SphereEight& eight = state_->wide[block];
      eight.x[slot % 8] = centers[i].x();
      eight.y[slot % 8] = centers[i].y();
      eight.z[slot % 8] = centers[i].z();
    }
    nodes.push_back(static_cast<std::uint32_t>((part << (3 * (tree.part_levels - 1))) +
                                               ((block - first[part]) >> 3)));
  }
  SphereUpdate update = mend(nodes, false);
  update.seconds = watch.milliseconds() / 1000;
  return update;
}

/// Boxes of the nodes within parts that hold what moved.
void MovingSpheres::State::refit_parts(std::span<const std::uint32_t> moved, bool all,
                                       int threads) const {
  if (all) {
    for (int which = 0; which < tree.part_levels; ++which) {
      const std::uint64_t count = store->head().parts * nodes_of_part(which);
      constexpr std::uint64_t at_once = 512;
      parallel_for(threads, (count + at_once - 1) / at_once, [&](std::size_t piece) {
        const std::uint64_t last = std::min(count, (piece + 1) * at_once);
        for (std::uint64_t node = piece * at_once; node < last; ++node) {
          if (level(which)[node].has(0)) refit(which, node);
        }
      });
    }
    return;
  }
  std::vector<std::uint32_t> touched(moved.begin(), moved.end());
  for (int which = 0; which < tree.part_levels; ++which) {
    std::sort(touched.begin(), touched.end());
    touched.erase(std::unique(touched.begin(), touched.end()), touched.end());
    for (std::uint32_t& node : touched) {
      refit(which, node);
      if (which + 1 < tree.part_levels) node >>= 3;
    }
  }
}

/// The store's bounds are those of the root's box.
void MovingSpheres::State::take_bounds() {
  const NodeBox box = box_of(level(tree.levels - 1)[0]);
  SphereHead head = store->head();
  double square = 0;
  for (int axis = 0; axis < 3; ++axis) {
    head.low[axis] = head.origin[axis] + box.low[axis];
    head.high[axis] = head.origin[axis] + box.high[axis];
    square += std::pow(0.5 * (head.high[axis] - head.low[axis]), 2);
  }
  head.reach = std::sqrt(square);
  const SphereSetCost cost = store->cost;
  store = std::make_shared<SphereStore>(*store, head);
  store->cost = cost;
  tree = store->tree();
}

/// Boxes that hold what moved, and a new order where they have grown too large.
SphereUpdate MovingSpheres::mend(std::span<const std::uint32_t> moved, bool all) {
  const SphereTree& tree = state_->tree;
  const std::uint64_t parts = state_->store->head().parts;
  state_->refit_parts(moved, all, threads_);
  SphereUpdate update;
  // A few that moved are a few boxes that grew: looking through all parts for them would cost more
  // than they do, until they are some.
  state_->unlooked += moved.size();
  std::vector<double> grown(parts, 1);
  if (all || state_->unlooked * 64 >= state_->store->head().blocks) {
    state_->unlooked = 0;
    parallel_for(threads_, parts, [&](std::size_t part) {
      const double made = state_->surface_made[part];
      grown[part] = made > 0 ? state_->surface_of(part) / made : 1;
    });
  }
  for (const double one : grown) update.grown = std::max(update.grown, one);
  const double parts_now = state_->surface_of_parts();
  const bool apart =
      parts > 1 && state_->parts_made > 0 && parts_now > most_grown * state_->parts_made;
  if (apart) {
    std::vector<Sphere> spheres(set_->size());
    for (std::uint64_t item = 0; item < set_->size(); ++item) {
      spheres[item] = state_->store->sphere_at(state_->store->slot_of(item));
    }
    update.kind = SphereUpdateKind::whole;
    update.parts = parts;
    update.grown = std::max(update.grown, parts_now / state_->parts_made);
    take(SphereSet::make(spheres, {.keeping = SphereKeeping::exact,
                                   .threads = threads_,
                                   .working_file = {},
                                   .progress = {}}));
    return update;
  }
  std::vector<std::uint64_t> bad;
  for (std::uint64_t part = 0; part < parts; ++part) {
    if (grown[part] > most_grown) bad.push_back(part);
  }
  parallel_for(threads_, bad.size(), [&](std::size_t i) {
    state_->put_in_order(bad[i]);
    state_->surface_made[bad[i]] = state_->surface_of(bad[i]);
  });
  if (!bad.empty()) update.kind = SphereUpdateKind::parts;
  update.parts = bad.size();
  for (int level = tree.part_levels; level < tree.levels; ++level) {
    const std::uint64_t count = state_->store->head().nodes(level);
    for (std::uint64_t node = 0; node < count; ++node) state_->refit(level, node);
  }
  state_->take_bounds();
  set_ = std::make_shared<const SphereSet>(state_->store);
  return update;
}

}  // namespace photonlane
