#include "field/place_tree.hpp"

#include <algorithm>
#include <cmath>

namespace photonlane {
namespace {

std::uint64_t hash_of(std::span<const std::uint32_t> part) {
  std::uint64_t hash = part.size();
  for (const std::uint32_t one : part) {
    hash = (hash ^ one) * 0x9e3779b97f4a7c15u;
    hash ^= hash >> 29;
  }
  return hash;
}

void collect(const Field& field, Bounds& core) {
  if (field.bounds().finite()) {
    core.low = core.low.cwiseMin(field.bounds().low);
    core.high = core.high.cwiseMax(field.bounds().high);
  } else if (field.kind() == FieldKind::join) {
    for (const Field& part : field.parts()) collect(part, core);
  }
}

}  // namespace

Bounds core_of(const Field& field) {
  Bounds core{Vec3d::Constant(HUGE_VAL), Vec3d::Constant(-HUGE_VAL)};
  collect(field, core);
  if (!(core.low.array() <= core.high.array()).all()) {
    core = {Vec3d::Constant(-8), Vec3d::Constant(8)};
  }
  return core;
}

PlaceTree::PlaceTree(const Tape& tape, const Bounds& core)
    : tape_(tape),
      block_chunks_(new std::unique_ptr<Block[]>[most_chunks]),
      part_chunks_(new std::unique_ptr<Part[]>[most_chunks]) {
  const bool bounded = tape.bounds.finite();
  extent_ = std::max((core.high - core.low).maxCoeff(), 1e-9);
  // A little more than what is there; what goes on without end has more around it.
  side_ = bounded ? 1.02 * extent_ : 32 * extent_;
  low_ = 0.5 * (core.low + core.high) - Vec3d::Constant(0.5 * side_);
  // Leaves are smaller than what is there is apart.
  const Vec3d size = (core.high - core.low).cwiseMax(1e-3 * extent_);
  const double shapes = 0.5 * static_cast<double>(tape.instructions.size());
  spacing_ = std::cbrt(size.prod() / shapes);
  const double target = 0.3 * spacing_;
  levels_ = static_cast<int>(std::clamp(std::ceil(std::log2(side_ / target) / 2), 1.0, 10.0));
  leaf_ = std::ldexp(side_, -2 * levels_);
  part_chunks_[0] = std::make_unique<Part[]>(chunk_parts);
}

std::span<const Tape::Instruction> PlaceTree::Reader::read(std::uint32_t part) {
  if (part == 0) return tree_.tape_.instructions;
  if (part != last_) {
    const Part& packed = tree_.part(part);
    instructions_.resize(packed.count);
    for (std::size_t i = 0; i < packed.count; ++i) {
      constexpr std::uint32_t index = (std::uint32_t{1} << change_shift) - 1;
      Tape::Instruction& one = instructions_[i];
      one = tree_.tape_.instructions[packed.first[i] & index];
      const std::uint32_t change = packed.first[i] >> change_shift;
      if (change == unchanged) continue;
      one.op = change == inverts_second ? TapeOp::invert : TapeOp::move;
      if (change != moves_first) one.a = one.b;
    }
    last_ = part;
  }
  return instructions_;
}

std::uint32_t PlaceTree::packed(const Tape::Instruction& one) const {
  const Tape::Instruction& whole = tape_.instructions[one.index];
  Change change = unchanged;
  if (one.op != whole.op) {
    change = one.op == TapeOp::invert ? inverts_second
             : one.a == whole.a       ? moves_first
                                      : moves_second;
  }
  return one.index | std::uint32_t{change} << change_shift;
}

std::uint32_t PlaceTree::keep(std::span<const Tape::Instruction> part) {
  static thread_local std::vector<std::uint32_t> packed;
  packed.clear();
  for (const Tape::Instruction& one : part) packed.push_back(this->packed(one));
  const std::uint64_t hash = hash_of(packed);
  const std::lock_guard lock(making_);
  const auto [first, last] = known_.equal_range(hash);
  for (auto it = first; it != last; ++it) {
    const Part& other = this->part(it->second);
    if (std::equal(packed.begin(), packed.end(), other.first, other.first + other.count)) {
      return it->second;
    }
  }
  // All of it matters as well.
  if (parts_ == most_chunks * chunk_parts) return 0;
  auto own = std::make_unique<std::uint32_t[]>(packed.size());
  std::copy(packed.begin(), packed.end(), own.get());
  const std::uint32_t index = parts_++;
  std::unique_ptr<Part[]>& chunk = part_chunks_[index / chunk_parts];
  if (!chunk) chunk = std::make_unique<Part[]>(chunk_parts);
  chunk[index % chunk_parts] = {own.get(), packed.size()};
  packed_.push_back(std::move(own));
  known_.emplace(hash, index);
  bytes_ += sizeof(std::uint32_t) * packed.size() + sizeof(Part) + 64;
  return index;
}

std::uint32_t PlaceTree::put(const std::array<NewCell, children>& cells,
                             std::atomic<std::uint32_t>& link) {
  const std::lock_guard lock(making_);
  // Somebody else may have been first.
  if (const std::uint32_t there = link.load(std::memory_order_acquire)) return there;
  if (blocks_ == most_chunks * chunk_blocks) return none;
  const std::uint32_t index = blocks_++;
  std::unique_ptr<Block[]>& chunk = block_chunks_[index / chunk_blocks];
  if (!chunk) chunk = std::make_unique<Block[]>(chunk_blocks);
  Block& block = chunk[index % chunk_blocks];
  for (std::size_t k = 0; k < children; ++k) {
    block.cells[k].part = cells[k].part;
    block.cells[k].clear = cells[k].clear;
    block.cells[k].below.store(cells[k].leaf ? leaf : none, std::memory_order_relaxed);
  }
  bytes_ += sizeof(Block);
  link.store(index, std::memory_order_release);
  return index;
}

template <class Number>
std::shared_ptr<PlaceTree> PlaceTrees::tree(const Tape& tape, const Field& field, double most) {
  const std::lock_guard lock(taking_);
  std::shared_ptr<PlaceTree>& tree = trees_[sizeof(Number) == 8];
  if (!tree || static_cast<double>(tree->bytes()) > most * 0x1p20) {
    tree = std::make_shared<PlaceTree>(tape, core_of(field));
  }
  return tree;
}

std::size_t PlaceTrees::bytes() const {
  const std::lock_guard lock(taking_);
  std::size_t bytes = 0;
  for (const auto& tree : trees_) bytes += tree ? tree->bytes() : 0;
  return bytes;
}

template std::shared_ptr<PlaceTree> PlaceTrees::tree<float>(const Tape&, const Field&, double);
template std::shared_ptr<PlaceTree> PlaceTrees::tree<double>(const Tape&, const Field&, double);

}  // namespace photonlane
