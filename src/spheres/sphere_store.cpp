#include "spheres/sphere_store.hpp"

#include "photonlane/base/error.hpp"

namespace photonlane {

int SphereHead::levels() const {
  int levels = static_cast<int>(part_levels);
  for (std::uint64_t there = parts; there > 1; there = (there + 7) / 8) ++levels;
  return levels;
}

std::uint64_t SphereHead::nodes(int level) const {
  const int within = static_cast<int>(part_levels) - 1 - level;
  if (within >= 0) return parts << (3 * within);
  std::uint64_t there = parts;
  for (int above = 0; above > within; --above) there = (there + 7) / 8;
  return there;
}

SphereArrays arrays_of(const SphereHead& head) {
  // Far below what overflows 64 bits.
  constexpr std::uint64_t many = std::uint64_t{1} << 36;
  if (head.part_levels < 1 || head.part_levels > SphereTree::most_part_levels || head.parts < 1 ||
      head.parts > many || head.blocks < 1 || head.blocks > many || head.wide > head.blocks ||
      head.count < 1 || head.count > head.slots() || head.slots() > 0xffffffffu ||
      head.levels() > SphereTree::most_levels || head.material_bytes > 2 ||
      (head.color_bytes != 0 && head.color_bytes != 3) || head.exact > 1 ||
      (head.exact == 1 && head.wide != head.blocks) || head.parts > head.blocks) {
    throw Error(ErrorKind::input, "numbers of spheres, parts and blocks that do not fit together");
  }
  SphereArrays arrays{};
  std::uint64_t at = 0;
  const auto lay = [&](std::uint64_t& where, std::uint64_t bytes) {
    where = at;
    at += (bytes + 63) / 64 * 64;
  };
  for (int level = 0; level < head.levels(); ++level) {
    lay(arrays.nodes[level], head.nodes(level) * sizeof(SphereNode));
  }
  lay(arrays.first_block, (head.parts + 1) * sizeof(std::uint32_t));
  lay(arrays.held, head.parts * sizeof(std::uint32_t));
  lay(arrays.leaves, head.exact == 1 ? 0 : head.blocks * sizeof(SphereLeaf));
  lay(arrays.original, head.exact == 1 ? head.slots() * sizeof(std::uint32_t) : 0);
  lay(arrays.slot_of, head.exact == 1 ? head.count * sizeof(std::uint32_t) : 0);
  lay(arrays.materials, head.slots() * head.material_bytes);
  lay(arrays.colors, head.slots() * head.color_bytes);
  // Last, since how many there are is not known before all others are made.
  lay(arrays.wide, head.wide * sizeof(SphereEight));
  arrays.bytes = at;
  return arrays;
}

SphereStore::SphereStore(const SphereHead& head, std::shared_ptr<std::byte> bytes,
                         std::size_t resident)
    : head_(head), arrays_(arrays_of(head)), bytes_(std::move(bytes)), resident_(resident) {
  const std::byte* const at = bytes_.get();
  tree_.levels = head.levels();
  tree_.part_levels = static_cast<int>(head.part_levels);
  for (int level = 0; level < tree_.levels; ++level) {
    tree_.nodes[level] = reinterpret_cast<const SphereNode*>(at + arrays_.nodes[level]);
  }
  tree_.first_block = reinterpret_cast<const std::uint32_t*>(at + arrays_.first_block);
  held_ = reinterpret_cast<const std::uint32_t*>(at + arrays_.held);
  if (head.exact == 0) tree_.leaves = reinterpret_cast<const SphereLeaf*>(at + arrays_.leaves);
  tree_.wide = reinterpret_cast<const SphereEight*>(at + arrays_.wide);
  tree_.wide_count = head.wide;
  tree_.unit = head.unit;
  tree_.origin = Vec3d(head.origin[0], head.origin[1], head.origin[2]);
  tree_.low = Vec3d(head.low[0], head.low[1], head.low[2]);
  tree_.high = Vec3d(head.high[0], head.high[1], head.high[2]);
  tree_.middle = 0.5 * (tree_.low + tree_.high);
  tree_.reach = head.reach;
  if (head.exact == 1) {
    tree_.original = reinterpret_cast<const std::uint32_t*>(at + arrays_.original);
    slot_of_ = reinterpret_cast<const std::uint32_t*>(at + arrays_.slot_of);
  }
  materials_ = reinterpret_cast<const std::uint8_t*>(at + arrays_.materials);
  colors_ = reinterpret_cast<const std::uint8_t*>(at + arrays_.colors);
}

SphereEight eight_of(const SphereTree& tree, std::uint64_t node, int child) {
  const std::uint64_t block = tree.block_of(node, child);
  if (tree.leaves == nullptr) return tree.wide[block];
  const SphereLeaf& leaf = tree.leaves[block];
  if (leaf.radius[0] == SphereLeaf::wide) return tree.wide_of(leaf);
  SphereEight eight;
  const SphereNode& above = tree.nodes[0][node];
  const std::uint16_t* const parts[3] = {leaf.x, leaf.y, leaf.z};
  double* const to[3] = {eight.x, eight.y, eight.z};
  for (int axis = 0; axis < 3; ++axis) {
    const double low = above.low_of(axis, child);
    const double cell =
        (above.high[axis][child] - above.low[axis][child]) * above.step(axis) * 0x1p-16;
    for (int k = 0; k < 8; ++k) to[axis][k] = (low + parts[axis][k] * cell) + tree.origin[axis];
  }
  for (int k = 0; k < 8; ++k) {
    eight.radius[k] = SphereRadius::share(leaf.radius[k]) * tree.unit;
  }
  return eight;
}

namespace {

/// The node and child above a block.
struct BlockPlace {
  std::uint64_t node;
  int child;
};
BlockPlace place_of(const SphereHead& head, const SphereTree& tree, std::uint64_t block) {
  const std::uint32_t* const first = tree.first_block;
  const auto part = static_cast<std::uint64_t>(
      std::upper_bound(first, first + head.parts, static_cast<std::uint32_t>(block)) - first - 1);
  const std::uint64_t within = block - first[part];
  return {(part << (3 * (tree.part_levels - 1))) + (within >> 3), static_cast<int>(within & 7)};
}

}  // namespace

Sphere SphereStore::sphere_at(std::uint64_t slot) const {
  const BlockPlace place = place_of(head_, tree_, slot / SphereTree::block);
  const SphereEight eight = eight_of(tree_, place.node, place.child);
  const std::size_t k = slot % SphereTree::block;
  const std::uint32_t material = head_.material_bytes > 0 ? material_at(slot) : no_number;
  return {Vec3d(eight.x[k], eight.y[k], eight.z[k]), eight.radius[k],
          material == no_number ? -1 : static_cast<int>(material)};
}

const std::vector<std::uint32_t>& SphereStore::numbers() const {
  std::call_once(looked_, [&] {
    if (head_.material_bytes == 0) return;
    std::vector<bool> there(no_number + 1, false);
    for (std::uint64_t slot = 0; slot < head_.slots(); ++slot) there[material_at(slot)] = true;
    for (std::uint32_t number = 0; number <= no_number; ++number) {
      if (there[number]) numbers_.push_back(number);
    }
  });
  return numbers_;
}

void SphereStore::check() const {
  const auto refuse = [](const char* what) { throw Error(ErrorKind::input, what); };
  const std::uint32_t* const first = tree_.first_block;
  std::uint64_t count = 0;
  for (std::uint64_t part = 0; part < head_.parts; ++part) {
    const std::uint64_t held = held_[part];
    if (first[part] > first[part + 1] || held < 1 ||
        held > SphereTree::capacity(tree_.part_levels) ||
        first[part + 1] - first[part] != (held + 7) / 8) {
      refuse("parts that do not fit together");
    }
    count += held;
  }
  if (first[0] != 0 || first[head_.parts] != head_.blocks || count != head_.count) {
    refuse("parts that do not fit together");
  }
  const auto finite = [&](const double* numbers) {
    return std::isfinite(numbers[0]) && std::isfinite(numbers[1]) && std::isfinite(numbers[2]);
  };
  if (!finite(head_.origin) || !finite(head_.low) || !finite(head_.high) ||
      !std::isfinite(head_.unit) || !std::isfinite(head_.reach)) {
    refuse("a number that is not finite");
  }
  // Children beyond the last: their blocks or nodes are not there.
  for (int level = 0; level < tree_.levels; ++level) {
    const std::uint64_t nodes = head_.nodes(level);
    for (std::uint64_t node = 0; node < nodes; ++node) {
      for (int child = 0; child < 8; ++child) {
        if (!tree_.nodes[level][node].has(child)) continue;
        if (level > 0) {
          if (8 * node + static_cast<unsigned>(child) >= head_.nodes(level - 1)) {
            refuse("a node beyond the last");
          }
          continue;
        }
        const int shift = 3 * (tree_.part_levels - 1);
        const std::uint64_t part = node >> shift;
        const std::uint64_t within = 8 * (node - (part << shift)) + static_cast<unsigned>(child);
        if (within >= first[part + 1] - first[part]) refuse("a block beyond the last");
      }
    }
  }
  if (tree_.original == nullptr) return;
  for (std::uint64_t slot = 0; slot < head_.slots(); ++slot) {
    if (tree_.original[slot] >= head_.count) refuse("a sphere beyond the last");
  }
  for (std::uint64_t item = 0; item < head_.count; ++item) {
    if (slot_of_[item] >= head_.slots()) refuse("a sphere beyond the last");
  }
}

bool SphereStore::taken(std::uint64_t slot) const {
  const std::uint32_t* const first = tree_.first_block;
  const auto part = static_cast<std::uint64_t>(
      std::upper_bound(first, first + head_.parts,
                       static_cast<std::uint32_t>(slot / SphereTree::block)) -
      first - 1);
  return slot - first[part] * SphereTree::block < held_[part];
}

}  // namespace photonlane
