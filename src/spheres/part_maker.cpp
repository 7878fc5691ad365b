#include "spheres/part_maker.hpp"

#include <algorithm>
#include <cmath>

namespace photonlane {

/// Each eight of them become one.
void join_boxes(std::vector<NodeBox>& boxes) {
  const std::size_t count = (boxes.size() + 7) / 8;
  for (std::size_t i = 0; i < count; ++i) {
    NodeBox all;
    for (std::size_t k = 8 * i; k < std::min(8 * i + 8, boxes.size()); ++k) all.add(boxes[k]);
    boxes[i] = all;
  }
  boxes.resize(count);
}
/// Exact: where it was said to be; else from the set's origin.
Vec3d PartMaker::center_of(const PartSpheres& spheres, const SphereKey& key, const Vec3d& low,
                           double step) const {
  if (form_.exact) {
    return {spheres.wide[0][key.index], spheres.wide[1][key.index], spheres.wide[2][key.index]};
  }
  return low + step * Vec3d(key.at[0], key.at[1], key.at[2]);
}

double PartMaker::radius_of(const PartSpheres& spheres, std::uint32_t index) const {
  if (form_.exact) return spheres.wide[3][index];
  if (form_.own_radius) return SphereRadius::share(spheres.radius[index]) * head_.unit;
  return head_.largest;
}

void PartMaker::place_attributes(const PartSpheres& spheres, std::uint32_t index,
                                 std::uint64_t slot) const {
  if (form_.exact) {
    array<std::uint32_t>(arrays_.original)[slot] = spheres.original[index];
    std::uint32_t& of = array<std::uint32_t>(arrays_.slot_of)[spheres.original[index]];
    const std::uint64_t within = slot % 8;
    // Of the times that the last sphere is there the first one counts.
    if (within == 0 ||
        array<std::uint32_t>(arrays_.original)[slot - 1] != spheres.original[index]) {
      of = static_cast<std::uint32_t>(slot);
    }
  }
  const auto copy = [&](std::uint64_t to, const std::vector<std::uint8_t>& from,
                        std::size_t bytes) {
    for (std::size_t k = 0; k < bytes; ++k) {
      array<std::uint8_t>(to)[bytes * slot + k] = from[bytes * index + k];
    }
  };
  copy(arrays_.materials, spheres.material, form_.material_bytes);
  copy(arrays_.colors, spheres.color, form_.color_bytes);
}

NodeBox PartMaker::make(std::uint32_t part, std::size_t which, const PartSpheres& spheres,
                        const std::vector<std::vector<std::uint8_t>>& axes, const Vec3d& low,
                        double step, PartRest& rest) const {
  const std::uint64_t first_block = array<std::uint32_t>(arrays_.first_block)[part];
  const std::uint64_t blocks = array<std::uint32_t>(arrays_.first_block)[part + 1] - first_block;
  const std::uint64_t count = array<std::uint32_t>(arrays_.held)[part];
  const SphereKey* const keys = spheres.keys.data() + which * SphereTree::most;
  const Vec3d origin(head_.origin[0], head_.origin[1], head_.origin[2]);
  const auto levels = static_cast<int>(head_.part_levels);
  // Blocks from the origin on, and what they are within.
  std::vector<NodeBox> boxes(blocks);
  SphereEight eights[8];
  double moved = 0;
  const std::uint64_t nodes = std::uint64_t{1} << (3 * (levels - 1));
  SphereNode* const bottom = array<SphereNode>(arrays_.nodes[0]) + part * nodes;
  for (std::uint64_t node = 0; node < nodes; ++node) {
    const std::uint64_t first = std::min(8 * node, blocks);
    const auto there = static_cast<int>(std::min<std::uint64_t>(8, blocks - first));
    for (int child = 0; child < there; ++child) {
      const std::uint64_t block = first + static_cast<unsigned>(child);
      SphereEight& eight = eights[child];
      SphereEight as_said;
      for (std::size_t k = 0; k < 8; ++k) {
        const SphereKey& key = keys[std::min(8 * block + k, count - 1)];
        const Vec3d center = center_of(spheres, key, low, step);
        const Vec3d from_origin = form_.exact ? Vec3d(center - origin) : center;
        as_said.x[k] = center.x();
        as_said.y[k] = center.y();
        as_said.z[k] = center.z();
        eight.x[k] = from_origin.x();
        eight.y[k] = from_origin.y();
        eight.z[k] = from_origin.z();
        as_said.radius[k] = eight.radius[k] = radius_of(spheres, key.index);
        boxes[block].add(eight.x[k], eight.y[k], eight.z[k], eight.radius[k]);
        place_attributes(spheres, key.index, 8 * (first_block + block) + k);
      }
      if (form_.exact) array<SphereEight>(arrays_.wide)[first_block + block] = as_said;
    }
    enclose(boxes.data() + first, there, bottom[node]);
    bottom[node].axes = axes[0][which * nodes + node];
    for (int child = 0; child < there && !form_.exact; ++child) {
      const std::uint64_t block = first_block + first + static_cast<unsigned>(child);
      const SphereEight& eight = eights[child];
      if (fit(bottom[node], child, eight, head_.unit, array<SphereLeaf>(arrays_.leaves)[block],
              moved)) {
        continue;
      }
      SphereEight& wide = rest.wide.emplace_back();
      for (std::size_t k = 0; k < 8; ++k) {
        wide.x[k] = eight.x[k] + origin.x();
        wide.y[k] = eight.y[k] + origin.y();
        wide.z[k] = eight.z[k] + origin.z();
        wide.radius[k] = eight.radius[k];
      }
      rest.of.push_back(block);
    }
  }
  // Half a step of the lattice that places were put on before is added to what leaves move.
  if (!form_.exact) moved += 0.5 * std::sqrt(3.0) * step;
  rest.moved = std::max(rest.moved, moved);
  for (int level = 1; level < levels; ++level) {
    join_boxes(boxes);
    const std::uint64_t here = std::uint64_t{1} << (3 * (levels - 1 - level));
    SphereNode* const to = array<SphereNode>(arrays_.nodes[level]) + part * here;
    for (std::uint64_t node = 0; node < here; ++node) {
      const std::uint64_t first = std::min<std::uint64_t>(8 * node, boxes.size());
      enclose(boxes.data() + first,
              static_cast<int>(std::min<std::uint64_t>(8, boxes.size() - first)), to[node]);
      to[node].axes = axes[static_cast<std::size_t>(level)][which * here + node];
    }
  }
  join_boxes(boxes);
  return boxes.front();
}

}  // namespace photonlane
