#pragma once

#include <algorithm>
#include <array>
#include <atomic>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <mutex>
#include <span>
#include <unordered_map>
#include <vector>

#include "field/tape.hpp"

namespace photonlane {

/// Space cut into cubes, 4 x 4 x 4 to a block, and for each cube the part of a tape that can matter
/// in it. Blocks are made where lanes come, by who comes there first; threads share them. Cubes
/// that are empty, by the value at their middle, are not cut any further; others are, down to a
/// size that goes by where they are, whatever matters in them: what a lane does by a tree depends
/// on nothing that was in it before, nor on the machine.
///
/// The container is compiled once, for every machine; kernels find out what goes in
/// (`places-inl.h`).
class PlaceTree {
 public:
  static constexpr std::size_t children = 64;
  static constexpr std::uint32_t none = 0;            ///< instead of a block: there is none yet
  static constexpr std::uint32_t leaf = 0xffffffffu;  ///< the same: there will be none

  /// A cube: index of the part that matters in it, and of the block it is cut into. Where it is
  /// empty, how far around its middle nothing is, less than 0 inside something; else 0.
  struct Cell {
    std::uint32_t part;
    std::atomic<std::uint32_t> below;
    float clear;
  };
  struct NewCell {
    std::uint32_t part;
    float clear;
    bool leaf;
  };
  /// One level of 4 x 4 x 4 cubes, x fastest.
  struct Block {
    alignas(64) std::array<Cell, children> cells;
  };
  /// Of a tape of a field whose parts of finite size lie in `core`.
  PlaceTree(const Tape& tape, const Bounds& core);
  PlaceTree(const PlaceTree&) = delete;
  PlaceTree& operator=(const PlaceTree&) = delete;

  /// The root cube: its low corner and side, and how many levels of blocks there are in it.
  const Vec3d& low() const { return low_; }
  double side() const { return side_; }
  int levels() const { return levels_; }
  /// How far apart shapes are, and how large all of them together are, in meters.
  double spacing() const { return spacing_; }
  double extent() const { return extent_; }
  /// The side of a cube around a place that is not cut any further: the larger the farther it is
  /// from everything.
  double small_enough(const Vec3d& middle) const {
    const double away = (middle - low_ - Vec3d::Constant(0.5 * side_)).cwiseAbs().maxCoeff();
    return leaf_ * std::max(1.0, away / extent_);
  }

  Block& block(std::uint32_t index) const {
    return block_chunks_[index / chunk_blocks][index % chunk_blocks];
  }
  /// The block of the root cube, or none.
  std::atomic<std::uint32_t>& root() { return root_; }

  /// Reads a part of the tape into memory of its own.
  class Reader {
   public:
    explicit Reader(const PlaceTree& tree) : tree_(tree) {}
    /// Good until another is read.
    std::span<const Tape::Instruction> read(std::uint32_t part);

   private:
    const PlaceTree& tree_;
    std::uint32_t last_ = 0;
    std::vector<Tape::Instruction> instructions_;
  };

  /// Index of a part that is as this one, kept from now on. Part 0 is the whole tape.
  std::uint32_t keep(std::span<const Tape::Instruction> part);
  /// Puts a block of some cells into a link that has none; the one that is there afterwards. none:
  /// there is no room.
  std::uint32_t put(const std::array<NewCell, children>& cells, std::atomic<std::uint32_t>& link);
  std::size_t bytes() const { return bytes_.load(std::memory_order_relaxed); }

 private:
  static constexpr std::size_t chunk_blocks = 64;
  static constexpr std::size_t chunk_parts = 256;
  static constexpr std::size_t most_chunks = 1 << 16;

  /// A part: for each instruction its index in the tape, and above it what became of one that
  /// joins two, of which one was left out.
  struct Part {
    const std::uint32_t* first = nullptr;
    std::size_t count = 0;
  };
  static constexpr int change_shift = 30;
  enum Change : std::uint32_t { unchanged, moves_first, moves_second, inverts_second };

  const Part& part(std::uint32_t index) const {
    return part_chunks_[index / chunk_parts][index % chunk_parts];
  }
  std::uint32_t packed(const Tape::Instruction& one) const;

  const Tape& tape_;
  Vec3d low_;
  double side_ = 1;
  double extent_ = 1;
  double leaf_ = 1;
  double spacing_ = 1;
  int levels_ = 0;
  std::atomic<std::uint32_t> root_{none};
  std::atomic<std::size_t> bytes_{0};
  std::mutex making_;
  std::uint32_t blocks_ = 1;
  std::uint32_t parts_ = 1;
  // Their places never change, so that they are read without locks.
  std::unique_ptr<std::unique_ptr<Block[]>[]> block_chunks_;
  std::unique_ptr<std::unique_ptr<Part[]>[]> part_chunks_;
  std::vector<std::unique_ptr<std::uint32_t[]>> packed_;
  std::unordered_multimap<std::uint64_t, std::uint32_t> known_;  ///< parts by their contents' hash
};

/// What holds all parts of finite size of a field that goes on without end, as far as they can be
/// told apart; a cube around the origin where there are none.
Bounds core_of(const Field& field);

/// The trees of a field, one for each kind of number; shared by its copies.
class PlaceTrees {
 public:
  /// The tree to go by now, which nobody throws away while it is held. One that has grown to more
  /// than so many MiB is replaced by an empty one.
  template <class Number>
  std::shared_ptr<PlaceTree> tree(const Tape& tape, const Field& field, double most);
  std::size_t bytes() const;

 private:
  mutable std::mutex taking_;
  std::shared_ptr<PlaceTree> trees_[2];
};

}  // namespace photonlane
