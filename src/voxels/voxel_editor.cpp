#include "photonlane/voxels/voxel_editor.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>

#include "photonlane/base/error.hpp"
#include "photonlane/field/compiled_field.hpp"
#include "voxels/voxel_build.hpp"

namespace photonlane {

/// What a step does to cells.
class VoxelBrush {
 public:
  enum class Cover { none, all, some };
  virtual ~VoxelBrush() = default;
  /// Whether it changes none of a cube's cells, gives all of them one value, or is to be asked.
  virtual Cover cover(const VoxelBox& box) const = 0;
  /// That value.
  virtual std::uint32_t value() const { return 0; }
  /// Changes values of a block of 16 cells a side, x fastest.
  virtual void paint(const VoxelCell& low, std::uint32_t* values) const = 0;
};

namespace {

constexpr int side = VoxelSource::side;

VoxelBox cut(const VoxelBox& one, const VoxelBox& other) {
  VoxelBox both;
  for (std::size_t axis = 0; axis < 3; ++axis) {
    both.low[axis] = std::max(one.low[axis], other.low[axis]);
    both.high[axis] = std::min(one.high[axis], other.high[axis]);
  }
  return both;
}

bool holds(const VoxelBox& outer, const VoxelBox& inner) {
  for (std::size_t axis = 0; axis < 3; ++axis) {
    if (inner.low[axis] < outer.low[axis] || inner.high[axis] > outer.high[axis]) return false;
  }
  return true;
}

/// The cube of a child of a node of a level.
VoxelBox cube_of(const VoxelCell& low, unsigned child, int level) {
  const VoxelCell at = child_low(low, child, level);
  const int across = 1 << (2 * (level - 1));
  return {at, {at[0] + across, at[1] + across, at[2] + across}};
}

VoxelBox block_at(const VoxelCell& low) {
  return {low, {low[0] + side, low[1] + side, low[2] + side}};
}

/// Calls each(cell, index) for the cells of a block that lie in a box.
template <class Each>
void for_each_cell(const VoxelCell& low, const VoxelBox& box, const Each& each) {
  const VoxelBox both = cut(box, block_at(low));
  for (int z = both.low[2]; z < both.high[2]; ++z) {
    for (int y = both.low[1]; y < both.high[1]; ++y) {
      for (int x = both.low[0]; x < both.high[0]; ++x) {
        each(VoxelCell{x, y, z},
             static_cast<std::size_t>((x - low[0]) + side * ((y - low[1]) + side * (z - low[2]))));
      }
    }
  }
}

class BoxBrush final : public VoxelBrush {
 public:
  BoxBrush(const VoxelBox& box, std::uint32_t value) : box_(box), value_(value) {}
  Cover cover(const VoxelBox& box) const override {
    if (cut(box, box_).empty()) return Cover::none;
    return holds(box_, box) ? Cover::all : Cover::some;
  }
  std::uint32_t value() const override { return value_; }
  void paint(const VoxelCell& low, std::uint32_t* values) const override {
    for_each_cell(low, box_, [&](const VoxelCell&, std::size_t k) { values[k] = value_; });
  }

 private:
  VoxelBox box_;
  std::uint32_t value_;
};

class BallBrush final : public VoxelBrush {
 public:
  BallBrush(const Vec3d& center, double radius, const VoxelBox& all, std::uint32_t value)
      : center_(center), radius_(radius), all_(all), value_(value) {}
  Cover cover(const VoxelBox& box) const override {
    double near = 0;
    double far = 0;
    for (int axis = 0; axis < 3; ++axis) {
      const auto a = static_cast<std::size_t>(axis);
      // Of middles of cells.
      const double low = box.low[a] + 0.5;
      const double high = box.high[a] - 0.5;
      const double close = center_[axis] - std::clamp(center_[axis], low, high);
      const double away = std::max(std::abs(center_[axis] - low), std::abs(center_[axis] - high));
      near += close * close;
      far += away * away;
    }
    if (near > radius_ * radius_) return Cover::none;
    return far < radius_ * radius_ * (1 - 1e-12) && holds(all_, box) ? Cover::all : Cover::some;
  }
  std::uint32_t value() const override { return value_; }
  void paint(const VoxelCell& low, std::uint32_t* values) const override {
    for_each_cell(low, all_, [&](const VoxelCell& cell, std::size_t k) {
      const Vec3d off = Vec3d(cell[0] + 0.5, cell[1] + 0.5, cell[2] + 0.5) - center_;
      if (off.squaredNorm() <= radius_ * radius_) values[k] = value_;
    });
  }

 private:
  Vec3d center_;
  double radius_;
  VoxelBox all_;
  std::uint32_t value_;
};

class FieldBrush final : public VoxelBrush {
 public:
  FieldBrush(const Field& field, const VoxelBox& all, std::uint32_t value)
      : field_(field),
        stretch_(field.estimates() ? 0 : field.stretch()),
        all_(all),
        value_(value) {}
  Cover cover(const VoxelBox& box) const override {
    if (stretch_ == 0) return Cover::some;
    const Vec3d middle(0.5 * (box.low[0] + box.high[0]), 0.5 * (box.low[1] + box.high[1]),
                       0.5 * (box.low[2] + box.high[2]));
    const double half = 0.5 * std::sqrt(3.0) * (box.high[0] - box.low[0]);
    const double value = field_.distance(middle);
    if (!(std::abs(value) > stretch_ * half * (1 + 1e-9) + 1e-12 * middle.norm())) {
      return Cover::some;
    }
    if (value > 0) return Cover::none;
    return holds(all_, box) ? Cover::all : Cover::some;
  }
  std::uint32_t value() const override { return value_; }
  void paint(const VoxelCell& low, std::uint32_t* values) const override {
    std::vector<Vec3d> places;
    std::vector<std::size_t> which;
    for_each_cell(low, all_, [&](const VoxelCell& cell, std::size_t k) {
      places.emplace_back(cell[0] + 0.5, cell[1] + 0.5, cell[2] + 0.5);
      which.push_back(k);
    });
    const std::vector<double> distances = field_.distances(places);
    for (std::size_t i = 0; i < which.size(); ++i) {
      if (distances[i] < 0) values[which[i]] = value_;
    }
  }

 private:
  CompiledField field_;
  double stretch_;
  VoxelBox all_;
  std::uint32_t value_;
};

class PasteBrush final : public VoxelBrush {
 public:
  PasteBrush(const VoxelTree& from, const VoxelBox& box, const VoxelCell& low, bool empty,
             std::vector<std::uint32_t> values)
      : from_(from), box_(box), low_(low), empty_(empty), values_(std::move(values)) {}
  Cover cover(const VoxelBox& box) const override {
    return cut(box, box_).empty() ? Cover::none : Cover::some;
  }
  void paint(const VoxelCell& low, std::uint32_t* values) const override {
    for_each_cell(low, box_, [&](const VoxelCell& cell, std::size_t k) {
      const std::uint32_t own =
          voxel_at(from_, {cell[0] - low_[0], cell[1] - low_[1], cell[2] - low_[2]});
      if (own != 0 || empty_) values[k] = values_.empty() ? own : values_[own];
    });
  }

 private:
  const VoxelTree& from_;
  VoxelBox box_;
  VoxelCell low_;
  bool empty_;
  std::vector<std::uint32_t> values_;
};

/// Single cells, by blocks.
class CellsBrush final : public VoxelBrush {
 public:
  /// Sorted by block.
  explicit CellsBrush(std::span<const VoxelEdit> edits) : edits_(edits) {}
  Cover cover(const VoxelBox& box) const override {
    for (const VoxelEdit& edit : edits_) {
      if (holds(box, {edit.cell, {edit.cell[0] + 1, edit.cell[1] + 1, edit.cell[2] + 1}})) {
        return Cover::some;
      }
    }
    return Cover::none;
  }
  void paint(const VoxelCell& low, std::uint32_t* values) const override {
    const VoxelBox box = block_at(low);
    for (const VoxelEdit& edit : edits_) {
      const VoxelCell& c = edit.cell;
      if (!holds(box, {c, {c[0] + 1, c[1] + 1, c[2] + 1}})) continue;
      values[(c[0] - low[0]) + side * ((c[1] - low[1]) + side * (c[2] - low[2]))] = edit.value;
    }
  }

 private:
  std::span<const VoxelEdit> edits_;
};

/// A step, carried out on what of a tree it touches.
class Step {
 public:
  Step(const VoxelBrush& brush, const VoxelBox& box, const VoxelLight& light, ChunkMaker& maker)
      : brush_(brush), box_(box), light_(light), maker_(maker), values_(VoxelSource::block) {}

  std::array<VoxelPart, 64> children(std::array<VoxelPart, 64> parts, const VoxelCell& low,
                                     int level) {
    for (unsigned child = 0; child < 64; ++child) {
      const VoxelBox own = cube_of(low, child, level);
      if (cut(own, box_).empty()) continue;
      parts[child] = part(std::move(parts[child]), own, level - 1);
    }
    return parts;
  }

 private:
  VoxelPart part(VoxelPart before, const VoxelBox& own, int level) {
    switch (brush_.cover(own)) {
      case VoxelBrush::Cover::none:
        return before;
      case VoxelBrush::Cover::all:
        return {brush_.value()};
      case VoxelBrush::Cover::some:
        break;
    }
    if (level == chunk_level) return chunk(before, own);
    std::array<VoxelPart, 64> parts;
    if (before.branch != nullptr) {
      parts = parts_of(*before.branch);
    } else {
      for (VoxelPart& one : parts) one.value = before.value;
    }
    return join_parts(children(std::move(parts), own.low, level), level, light_);
  }

  VoxelPart chunk(const VoxelPart& before, const VoxelBox& own) {
    maker_.clear();
    if (before.chunk != nullptr) {
      maker_.start_from(*before.chunk);
    } else {
      for (unsigned block = 0; block < 64; ++block) maker_.fill(block, before.value);
    }
    for (unsigned block = 0; block < 64; ++block) {
      const VoxelBox cells = cube_of(own.low, block, chunk_level);
      if (cut(cells, box_).empty()) continue;
      switch (brush_.cover(cells)) {
        case VoxelBrush::Cover::none:
          continue;
        case VoxelBrush::Cover::all:
          maker_.fill(block, brush_.value());
          continue;
        case VoxelBrush::Cover::some:
          break;
      }
      if (before.chunk != nullptr) {
        block_values(*before.chunk, block, values_.data());
      } else {
        std::fill(values_.begin(), values_.end(), before.value);
      }
      brush_.paint(cells.low, values_.data());
      maker_.put(block, values_.data());
    }
    if (const auto value = maker_.only_value()) return {*value};
    return {0, nullptr, maker_.make(false)};
  }

  const VoxelBrush& brush_;
  const VoxelBox& box_;
  const VoxelLight& light_;
  ChunkMaker& maker_;
  std::vector<std::uint32_t> values_;
};

/// A box of a tree, as it is made into a grid of its own.
class PartOfTree final : public VoxelSource {
 public:
  PartOfTree(const VoxelTree& tree, const VoxelBox& box) : tree_(tree), box_(box) {}
  VoxelCell size() const override {
    return {box_.high[0] - box_.low[0], box_.high[1] - box_.low[1], box_.high[2] - box_.low[2]};
  }
  VoxelPalette palette() const override { return *tree_.palette; }
  void read(const VoxelCell& low, std::uint32_t* values) const override {
    const VoxelCell extent = size();
    for_each_cell(low, {{0, 0, 0}, extent}, [&](const VoxelCell& cell, std::size_t k) {
      values[k] =
          voxel_at(tree_, {cell[0] + box_.low[0], cell[1] + box_.low[1], cell[2] + box_.low[2]});
    });
  }

 private:
  const VoxelTree& tree_;
  VoxelBox box_;
};

}  // namespace

VoxelEditor::VoxelEditor(std::shared_ptr<const VoxelGrid> grid)
    : tree_(std::make_unique<VoxelTree>(grid->tree())) {}
VoxelEditor::VoxelEditor(const VoxelCell& size, VoxelPalette palette)
    : tree_(std::make_unique<VoxelTree>(empty_voxels(size, std::move(palette)))) {}
VoxelEditor::~VoxelEditor() = default;

const VoxelCell& VoxelEditor::size() const { return tree_->size; }
const VoxelPalette& VoxelEditor::palette() const { return *tree_->palette; }
std::uint32_t VoxelEditor::at(const VoxelCell& cell) const { return voxel_at(*tree_, cell); }
std::shared_ptr<const VoxelGrid> VoxelEditor::grid() const {
  return std::make_shared<const VoxelGrid>(*tree_);
}

std::uint32_t VoxelEditor::kind(const VoxelKind& kind) {
  const VoxelPalette& palette = *tree_->palette;
  const auto found = std::find(palette.kinds.begin(), palette.kinds.end(), kind);
  if (found != palette.kinds.end()) {
    return static_cast<std::uint32_t>(found - palette.kinds.begin()) + 1;
  }
  if (palette.direct) throw Error(ErrorKind::input, "a kind for voxels whose values are colors");
  VoxelPalette more = palette;
  more.kinds.push_back(kind);
  // Checks it.
  VoxelTree changed = empty_voxels(tree_->size, std::move(more));
  changed.root = tree_->root;
  *tree_ = std::move(changed);
  maker_.reset();
  return tree_->palette->largest();
}

void VoxelEditor::check_value(std::uint32_t value) const {
  if (value > tree_->palette->largest()) {
    throw Error(ErrorKind::input, fmt::format("a voxel of value {}, expected {} at most", value,
                                              tree_->palette->largest()));
  }
}

ChunkMaker& VoxelEditor::maker() {
  if (maker_ == nullptr) maker_ = std::make_unique<ChunkMaker>(*tree_->palette);
  return *maker_;
}

void VoxelEditor::remember(std::shared_ptr<const VoxelBranch> root) {
  if (before_.size() == most_steps) before_.erase(before_.begin());
  before_.push_back(std::move(root));
  after_.clear();
}

void VoxelEditor::paint(const VoxelBrush& brush, const VoxelBox& box) {
  const VoxelBox within = cut(box, {{0, 0, 0}, tree_->size});
  if (within.empty()) return;
  const VoxelLight light(*tree_->palette);
  Step step(brush, within, light, maker());
  tree_->root =
      root_of(step.children(parts_of(*tree_->root), {0, 0, 0}, tree_->level), tree_->level, light);
}

void VoxelEditor::change(const VoxelBrush& brush, const VoxelBox& box) {
  std::shared_ptr<const VoxelBranch> before = tree_->root;
  paint(brush, box);
  remember(std::move(before));
}

void VoxelEditor::set(const VoxelCell& cell, std::uint32_t value) {
  const VoxelEdit one[] = {{cell, value}};
  set(one);
}

void VoxelEditor::set(std::span<const VoxelEdit> edits) {
  for (const VoxelEdit& edit : edits) check_value(edit.value);
  if (edits.size() == 1) {
    const VoxelCell& c = edits[0].cell;
    change(CellsBrush(edits), {c, {c[0] + 1, c[1] + 1, c[2] + 1}});
    return;
  }
  // Those of a chunk together, in their order.
  std::vector<VoxelEdit> sorted;
  for (const VoxelEdit& edit : edits) {
    bool within = true;
    for (std::size_t axis = 0; axis < 3; ++axis) {
      within = within && edit.cell[axis] >= 0 && edit.cell[axis] < tree_->size[axis];
    }
    if (within) sorted.push_back(edit);
  }
  const auto key = [](const VoxelEdit& edit) {
    return std::array{edit.cell[2] / side, edit.cell[1] / side, edit.cell[0] / side};
  };
  std::stable_sort(sorted.begin(), sorted.end(), [&](const VoxelEdit& one, const VoxelEdit& other) {
    return key(one) < key(other);
  });
  std::shared_ptr<const VoxelBranch> before = tree_->root;
  for (std::size_t first = 0; first < sorted.size();) {
    std::size_t end = first + 1;
    while (end < sorted.size() && key(sorted[end]) == key(sorted[first])) ++end;
    const auto [z, y, x] = key(sorted[first]);
    paint(CellsBrush({sorted.data() + first, end - first}),
          block_at({side * x, side * y, side * z}));
    first = end;
  }
  remember(std::move(before));
}

void VoxelEditor::fill(const VoxelBox& box, std::uint32_t value) {
  check_value(value);
  const VoxelBox within = cut(box, {{0, 0, 0}, tree_->size});
  change(BoxBrush(within, value), within);
}

void VoxelEditor::fill_ball(const Vec3d& center, double radius, std::uint32_t value) {
  check_value(value);
  if (!center.allFinite() || !(radius >= 0) || !std::isfinite(radius)) {
    throw Error(ErrorKind::input, "a ball whose center or radius is no number");
  }
  VoxelBox box;
  for (int axis = 0; axis < 3; ++axis) {
    const auto a = static_cast<std::size_t>(axis);
    const double end = tree_->size[a];
    box.low[a] = static_cast<std::int32_t>(std::floor(std::clamp(center[axis] - radius, 0.0, end)));
    box.high[a] = static_cast<std::int32_t>(std::ceil(std::clamp(center[axis] + radius, 0.0, end)));
  }
  change(BallBrush(center, radius, {{0, 0, 0}, tree_->size}, value), box);
}

void VoxelEditor::fill_field(const Field& field, std::uint32_t value) {
  check_value(value);
  const Bounds bounds = field.bounds();
  VoxelBox box;
  for (int axis = 0; axis < 3; ++axis) {
    const auto a = static_cast<std::size_t>(axis);
    const double end = tree_->size[a];
    box.low[a] = static_cast<std::int32_t>(std::floor(std::clamp(bounds.low[axis], 0.0, end)));
    box.high[a] = static_cast<std::int32_t>(std::ceil(std::clamp(bounds.high[axis], 0.0, end)));
  }
  change(FieldBrush(field, {{0, 0, 0}, tree_->size}, value), box);
}

std::shared_ptr<const VoxelGrid> VoxelEditor::copy(const VoxelBox& box) const {
  const VoxelBox within = cut(box, {{0, 0, 0}, tree_->size});
  if (within.empty()) throw Error(ErrorKind::input, "a box without cells of the grid");
  return VoxelGrid::make(PartOfTree(*tree_, within));
}

void VoxelEditor::paste(const VoxelGrid& from, const VoxelCell& low, bool empty) {
  if (from.palette().direct != palette().direct) {
    throw Error(ErrorKind::input, "voxels whose values are colors, and voxels of kinds");
  }
  std::vector<std::uint32_t> values;
  if (!from.palette().direct && from.palette() != palette()) {
    values.push_back(0);
    for (const VoxelKind& one : from.palette().kinds) values.push_back(kind(one));
  }
  const VoxelBox box =
      cut({low, {low[0] + from.size()[0], low[1] + from.size()[1], low[2] + from.size()[2]}},
          {{0, 0, 0}, tree_->size});
  change(PasteBrush(from.tree(), box, low, empty, std::move(values)), box);
}

bool VoxelEditor::undo() {
  if (before_.empty()) return false;
  after_.push_back(std::exchange(tree_->root, std::move(before_.back())));
  before_.pop_back();
  return true;
}

bool VoxelEditor::redo() {
  if (after_.empty()) return false;
  before_.push_back(std::exchange(tree_->root, std::move(after_.back())));
  after_.pop_back();
  return true;
}

}  // namespace photonlane
