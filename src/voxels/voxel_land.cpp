#include "photonlane/voxels/voxel_land.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <condition_variable>
#include <mutex>
#include <thread>
#include <unordered_map>
#include <unordered_set>

#include "base/floor_div.hpp"
#include "base/parallel.hpp"
#include "photonlane/base/error.hpp"
#include "voxels/land_piece.hpp"

namespace photonlane {
namespace {

constexpr double farthest_eye = 1e12;  // cells
/// Eyes are told apart by so many cells, so that not every step makes all anew.
constexpr std::int64_t eye_step = 32;
constexpr int most_coarseness = 4;
/// Of pieces that are looked at for one eye: what takes no memory yet is not without end either.
constexpr std::size_t most_nodes = std::size_t{1} << 20;

struct PieceHash {
  std::size_t operator()(const LandPiece& piece) const {
    return static_cast<std::size_t>(
        hash_bytes(piece.at.data(), sizeof piece.at, static_cast<std::uint64_t>(piece.coarseness)));
  }
};

/// From a place to the nearest of a cube's.
double distance(const LandCell& eye, const LandCube& cube) {
  double sum = 0;
  for (std::size_t axis = 0; axis < 3; ++axis) {
    const std::int64_t to = std::clamp(eye[axis], cube.low[axis], cube.low[axis] + cube.side);
    const auto away = static_cast<double>(to - eye[axis]);
    sum += away * away;
  }
  return std::sqrt(sum);
}

}  // namespace

std::optional<std::uint32_t> LandSource::known(const LandCube&, std::int64_t) const { return {}; }

std::span<const Knob<LandOptions>> land_options_knobs() {
  static const Knob<LandOptions> table[] = {
      knob<&LandOptions::reach>("reach", "cells", {16, 24576}, "how far from the eye it is made"),
      knob<&LandOptions::full>("full", "cells", {0, 24576},
                               "how far it is made as it is; from there on in cubes of 4 cells, "
                               "from 4 times that on of 16, and so on"),
      knob<&LandOptions::memory>("memory", "bytes", {1'000'000, 1e15},
                                 "that it may take; what is far and fine is left out first"),
  };
  return table;
}

struct VoxelLand::Inside {
  /// Of a tree from coarse pieces to fine ones.
  struct Node {
    LandPiece piece;
    std::optional<std::uint32_t> value;  ///< of all of it, where that is known
    std::size_t first = 0;               ///< of 64 children, which follow one another; 0: none
    std::size_t place = 0;               ///< in the order of making, where it is to be made
    bool outside = false;                ///< beyond reach
  };
  struct Made {
    VoxelPart part;
    std::size_t bytes = 0;
    std::uint64_t used = 0;  ///< the last eye it was wanted for
  };

  std::shared_ptr<const LandSource> source;
  LandOptions options;
  int coarsest = 0;
  VoxelTree tree;  ///< without voxels
  VoxelLight light;

  std::mutex turn;  ///< held while somebody waits
  std::mutex mutex;
  std::condition_variable changed;
  bool stopping = false;
  std::exception_ptr failed;
  std::optional<LandCell> eye;
  LandCell low{0, 0, 0};
  std::uint64_t eyes = 0;  ///< how many there were
  std::uint64_t version = 0;
  std::vector<Node> nodes;        ///< the first 64 are the coarsest
  std::vector<LandPiece> wanted;  ///< in the order of making
  std::size_t settled = 0;        ///< of those, from the first on, how many are made and held
  std::size_t settled_bytes = 0;
  bool full = false;  ///< what follows those is left out
  std::unordered_map<LandPiece, Made, PieceHash> made;
  std::unordered_map<LandPiece, std::optional<std::uint32_t>, PieceHash> known;
  std::unordered_set<LandPiece, PieceHash> begun;
  std::size_t made_bytes = 0;
  LandView view;
  std::vector<std::thread> threads;

  Inside(std::shared_ptr<const LandSource> of, const LandOptions& with)
      : source(std::move(of)), options(with), tree(empty_tree()), light(*tree.palette) {}

  ~Inside() {
    {
      const std::scoped_lock lock(mutex);
      stopping = true;
    }
    changed.notify_all();
    for (std::thread& one : threads) one.join();
  }

  /// Of 4 x 4 x 4 of the coarsest pieces, of which the eye is in the middle ones: at least one and
  /// a half of them are in every way.
  VoxelTree empty_tree() {
    validate_knobs(land_options_knobs(), options);
    if (options.threads < 0) {
      throw Error(ErrorKind::input, fmt::format("{} threads, expected 0 or more", options.threads));
    }
    while (coarsest < most_coarseness &&
           1.5 * static_cast<double>(LandPiece{coarsest, {}}.side()) < options.reach) {
      ++coarsest;
    }
    const auto side = static_cast<std::int32_t>(4 * LandPiece{coarsest, {}}.side());
    return empty_voxels({side, side, side}, source->palette());
  }

  void start() {
    if (!threads.empty()) return;
    const int count = options.threads > 0 ? options.threads : std::max(1, thread_count(0) - 1);
    for (int i = 0; i < count; ++i) threads.emplace_back([this] { work(); });
  }

  void work() {
    ChunkMaker maker(*tree.palette);
    std::unique_lock lock(mutex);
    while (true) {
      const LandPiece* next = nullptr;
      changed.wait(lock, [&] { return stopping || (next = job()) != nullptr; });
      if (stopping) return;
      const LandPiece piece = *next;
      begun.insert(piece);
      lock.unlock();
      Made one;
      std::exception_ptr error;
      try {
        one.part = make_piece(*source, piece, light, tree.palette->largest(), maker);
        one.bytes = part_bytes(one.part);
      } catch (...) {
        error = std::current_exception();
      }
      lock.lock();
      begun.erase(piece);
      if (error) {
        if (!failed) failed = error;
      } else {
        one.used = eyes;
        made_bytes += one.bytes;
        made.emplace(piece, std::move(one));
        ++version;
        settle();
      }
      changed.notify_all();
    }
  }

  /// The next piece to be made; null: none.
  const LandPiece* job() {
    if (full || failed) return nullptr;
    for (std::size_t i = settled; i < wanted.size(); ++i) {
      if (!made.contains(wanted[i]) && !begun.contains(wanted[i])) return &wanted[i];
    }
    return nullptr;
  }

  bool done() const { return full || settled == wanted.size(); }

  /// Goes on over what is made, in order, as far as memory holds it.
  void settle() {
    while (!done()) {
      const auto found = made.find(wanted[settled]);
      if (found == made.end()) break;
      found->second.used = eyes;
      if (settled_bytes + found->second.bytes > static_cast<std::size_t>(options.memory)) {
        full = true;
        break;
      }
      settled_bytes += found->second.bytes;
      ++settled;
    }
    if (made_bytes > static_cast<std::size_t>(options.memory)) forget();
  }

  /// What is not wanted any more, that of the oldest eyes first, until memory holds the others.
  void forget() {
    const std::unordered_set<LandPiece, PieceHash> keep(
        wanted.begin(),
        wanted.begin() + static_cast<std::ptrdiff_t>(full ? settled : wanted.size()));
    std::vector<std::pair<std::uint64_t, LandPiece>> others;
    for (const auto& [piece, one] : made) {
      if (!keep.contains(piece)) others.emplace_back(one.used, piece);
    }
    std::sort(others.begin(), others.end());
    for (const auto& [used, piece] : others) {
      if (made_bytes <= static_cast<std::size_t>(options.memory)) return;
      made_bytes -= made.at(piece).bytes;
      made.erase(piece);
    }
  }

  void look_from(const LandCell& place) {
    if (eye == place) return;
    // Until all is known of it, it is no eye: a source may throw.
    eye.reset();
    ++eyes;
    ++version;
    failed = nullptr;
    wanted.clear();
    settled = 0;
    settled_bytes = 0;
    full = false;
    const std::int64_t side = LandPiece{coarsest, {}}.side();
    LandPiece first{coarsest, {}};
    for (std::size_t axis = 0; axis < 3; ++axis) {
      first.at[axis] = floor_div(place[axis] + side / 2, side) - 2;
      low[axis] = first.at[axis] * side;
    }
    nodes.clear();
    for (unsigned child = 0; child < 64; ++child) {
      nodes.push_back({.piece = {coarsest,
                                 {first.at[0] + (child & 3), first.at[1] + (child >> 2 & 3),
                                  first.at[2] + (child >> 4)}}});
    }
    const auto before = std::move(known);
    known = {};
    std::vector<std::pair<double, std::size_t>> order;
    for (std::size_t i = 0; i < nodes.size(); ++i) {
      const LandPiece piece = nodes[i].piece;
      const LandCube cube = piece.cube();
      const double away = distance(place, cube);
      if (away > options.reach) {
        nodes[i].outside = true;
        continue;
      }
      const auto found = before.find(piece);
      nodes[i].value = found != before.end() ? found->second : source->known(cube, 1);
      known.emplace(piece, nodes[i].value);
      if (nodes[i].value) continue;
      order.emplace_back(away, i);
      if (piece.coarseness == 0) continue;
      if (away >= options.full * static_cast<double>(piece.step() / 4)) continue;
      if (nodes.size() >= most_nodes) {
        throw Error(
            ErrorKind::memory,
            fmt::format("land of more than {} pieces around the eye, expected less reach, or "
                        "less of it in full",
                        most_nodes));
      }
      nodes[i].first = nodes.size();
      for (unsigned child = 0; child < 64; ++child) nodes.push_back({.piece = piece.child(child)});
    }
    std::sort(order.begin(), order.end(), [&](const auto& one, const auto& other) {
      const LandPiece& a = nodes[one.second].piece;
      const LandPiece& b = nodes[other.second].piece;
      if (a.coarseness != b.coarseness) return a.coarseness > b.coarseness;
      if (one.first != other.first) return one.first < other.first;
      return a.at < b.at;
    });
    for (const auto& [away, i] : order) {
      nodes[i].place = wanted.size();
      wanted.push_back(nodes[i].piece);
    }
    eye = place;
    settle();
    changed.notify_all();
  }

  /// What there is of a node: its own, or that of the coarser one it lies in.
  VoxelPart part_of(const Node& node, VoxelPart coarser) const {
    if (node.outside) return {};
    if (node.value) return {*node.value};
    const auto found = made.find(node.piece);
    if (found != made.end() && (!full || node.place < settled)) coarser = found->second.part;
    if (node.first == 0) return coarser;
    std::array<VoxelPart, 64> parts = parts_below(coarser);
    for (unsigned child = 0; child < 64; ++child) {
      parts[child] = part_of(nodes[node.first + child], std::move(parts[child]));
    }
    return join_parts(std::move(parts), node.piece.level(), light);
  }
  static std::array<VoxelPart, 64> parts_below(const VoxelPart& part) {
    if (part.branch != nullptr) return parts_of(*part.branch);
    std::array<VoxelPart, 64> parts;
    for (VoxelPart& one : parts) one.value = part.value;
    return parts;
  }

  LandView look() {
    if (view.grid != nullptr && view.version == version) return view;
    std::array<VoxelPart, 64> parts;
    for (unsigned child = 0; child < 64; ++child) parts[child] = part_of(nodes[child], {});
    VoxelTree grown = tree;
    grown.root = root_of(std::move(parts), tree.level, light);
    view.grid = std::make_shared<const VoxelGrid>(std::move(grown));
    view.low = low;
    view.version = version;
    view.wanted = wanted.size();
    view.left_out = full ? wanted.size() - settled : 0;
    view.missing = 0;
    view.bytes = settled_bytes;
    for (std::size_t i = settled; !full && i < wanted.size(); ++i) {
      const auto found = made.find(wanted[i]);
      if (found == made.end()) {
        ++view.missing;
      } else {
        view.bytes += found->second.bytes;
      }
    }
    return view;
  }
};

VoxelLand::VoxelLand(std::shared_ptr<const LandSource> source, const LandOptions& options)
    : inside_(std::make_unique<Inside>(std::move(source), options)) {}
VoxelLand::~VoxelLand() = default;

const LandSource& VoxelLand::source() const { return *inside_->source; }
const LandOptions& VoxelLand::options() const { return inside_->options; }

LandView VoxelLand::around(const Vec3d& eye, bool wait, const std::function<bool()>& go_on) {
  if (!eye.allFinite() || eye.cwiseAbs().maxCoeff() > farthest_eye) {
    throw Error(ErrorKind::input, fmt::format("an eye {:.3g} cells away, expected {:.0e} at most",
                                              eye.cwiseAbs().maxCoeff(), farthest_eye));
  }
  LandCell place;
  for (int axis = 0; axis < 3; ++axis) {
    const auto cell = static_cast<std::int64_t>(std::floor(eye[axis]));
    place[static_cast<std::size_t>(axis)] = eye_step * floor_div(cell, eye_step) + eye_step / 2;
  }
  Inside& in = *inside_;
  std::unique_lock turn(in.turn, std::defer_lock);
  const bool own = wait ? (turn.lock(), true) : turn.try_lock();
  std::unique_lock lock(in.mutex);
  if (own || !in.eye) in.look_from(place);
  in.start();
  while (wait && !in.done() && !in.failed) {
    in.changed.wait_for(lock, std::chrono::milliseconds(100));
    if (!go_on) continue;
    lock.unlock();
    const bool on = go_on();
    lock.lock();
    if (!on) throw Error(ErrorKind::cancelled, "stopped by the caller");
  }
  if (in.failed) std::rethrow_exception(in.failed);
  return in.look();
}

}  // namespace photonlane
