#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <list>
#include <mutex>

#include "io/mapped_file.hpp"
#include "io/sphere_sources.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/io/picture.hpp"
#include "photonlane/io/volume_file.hpp"
#include "photonlane/io/voxel_file.hpp"
#include "voxels/ground_range.hpp"

namespace photonlane::io {
namespace {

constexpr int side = VoxelSource::side;
constexpr int most_side = 65536;

std::size_t index_in(int x, int y, int z) {
  return static_cast<std::size_t>(x + side * (y + side * z));
}

class RawSource final : public VoxelSource {
 public:
  explicit RawSource(const RawVoxels& raw) : raw_(raw), file_(raw.path) {
    for (const std::int32_t one : raw_.size) {
      if (one < 1 || one > most_side) {
        throw Error(ErrorKind::input,
                    fmt::format("{} x {} x {} cells, expected 1 to {} along each side",
                                raw_.size[0], raw_.size[1], raw_.size[2], most_side),
                    Place{raw_.path});
      }
    }
    if (raw_.bytes != 1 && raw_.bytes != 2) {
      throw Error(ErrorKind::input,
                  fmt::format("numbers of {} bytes, expected 1 or 2", raw_.bytes));
    }
    const std::uint64_t cells = static_cast<std::uint64_t>(raw_.size[0]) *
                                static_cast<std::uint64_t>(raw_.size[1]) *
                                static_cast<std::uint64_t>(raw_.size[2]);
    const std::uint64_t wanted = cells * static_cast<std::uint64_t>(raw_.bytes);
    if (raw_.offset > file_.size() || wanted > file_.size() - raw_.offset) {
      throw Error(ErrorKind::file,
                  fmt::format("{} bytes, expected {} for {} x {} x {} cells of {} bytes after {}",
                              file_.size(), raw_.offset + wanted, raw_.size[0], raw_.size[1],
                              raw_.size[2], raw_.bytes, raw_.offset),
                  Place{raw_.path});
    }
    palette_.kinds = raw_.kinds;
    if (palette_.kinds.empty()) {
      const std::uint32_t many = raw_.bytes == 1 ? 255 : 65535;
      for (std::uint32_t n = 1; n <= many; ++n) {
        palette_.kinds.push_back({-1, n > 255 ? VoxelKind::no_color : n * 0x010101u});
      }
    }
  }

  VoxelCell size() const override { return raw_.size; }
  VoxelPalette palette() const override { return palette_; }
  void read(const VoxelCell& low, std::uint32_t* values) const override {
    std::fill_n(values, block, 0u);
    const auto* const bytes = reinterpret_cast<const unsigned char*>(file_.data()) + raw_.offset;
    const int end[3] = {std::min(side, raw_.size[0] - low[0]),
                        std::min(side, raw_.size[1] - low[1]),
                        std::min(side, raw_.size[2] - low[2])};
    for (int z = 0; z < end[2]; ++z) {
      for (int y = 0; y < end[1]; ++y) {
        const std::uint64_t row =
            (static_cast<std::uint64_t>(low[2] + z) * static_cast<std::uint64_t>(raw_.size[1]) +
             static_cast<std::uint64_t>(low[1] + y)) *
                static_cast<std::uint64_t>(raw_.size[0]) +
            static_cast<std::uint64_t>(low[0]);
        for (int x = 0; x < end[0]; ++x) {
          const std::uint64_t at = row + static_cast<std::uint64_t>(x);
          const std::uint32_t value =
              raw_.bytes == 1 ? bytes[at] : bytes[2 * at] | std::uint32_t{bytes[2 * at + 1]} << 8;
          if (value > palette_.kinds.size()) {
            throw Error(
                ErrorKind::input,
                fmt::format("cell {}, {}, {} has number {}, expected 0 to {}, the kinds",
                            low[0] + x, low[1] + y, low[2] + z, value, palette_.kinds.size()),
                Place{raw_.path});
          }
          values[index_in(x, y, z)] = value;
        }
      }
    }
  }

 private:
  RawVoxels raw_;
  MappedFile file_;
  VoxelPalette palette_;
};

/// Pictures, of which those that were asked for last are held.
class SliceSource final : public VoxelSource {
 public:
  explicit SliceSource(const VoxelSlices& slices) : paths_(fitting_files(slices.paths)) {
    if (paths_.size() > most_side) {
      throw Error(ErrorKind::input,
                  fmt::format("{} slices, expected {} at most", paths_.size(), most_side));
    }
    const auto first = layer(0);
    size_ = {first->width, first->height, static_cast<std::int32_t>(paths_.size())};
  }

  VoxelCell size() const override { return size_; }
  VoxelPalette palette() const override { return {{}, true}; }
  void read(const VoxelCell& low, std::uint32_t* values) const override {
    std::fill_n(values, block, 0u);
    for (int z = 0; z < std::min(side, size_[2] - low[2]); ++z) {
      const auto picture = layer(low[2] + z);
      for (int y = 0; y < std::min(side, size_[1] - low[1]); ++y) {
        for (int x = 0; x < std::min(side, size_[0] - low[0]); ++x) {
          const std::uint32_t texel = picture->at(low[0] + x, size_[1] - 1 - (low[1] + y));
          const std::uint32_t color = (texel & 255) << 16 | (texel & 0xff00) | (texel >> 16 & 255);
          if (texel >> 24 < 128 || color == 0) continue;
          values[index_in(x, y, z)] = color + 1;
        }
      }
    }
  }

 private:
  std::shared_ptr<const Texture> layer(int z) const {
    const std::scoped_lock lock(held_);
    const auto found =
        std::find_if(kept_.begin(), kept_.end(), [&](const auto& one) { return one.first == z; });
    if (found != kept_.end()) {
      kept_.splice(kept_.begin(), kept_, found);
      return found->second;
    }
    const std::string& path = paths_[static_cast<std::size_t>(z)];
    auto picture = std::make_shared<const Texture>(read_texture(path));
    if (z > 0 && (picture->width != size_[0] || picture->height != size_[1])) {
      throw Error(ErrorKind::input,
                  fmt::format("{} x {} pixels, expected {} x {} as the first slice has",
                              picture->width, picture->height, size_[0], size_[1]),
                  Place{path});
    }
    kept_.emplace_front(z, picture);
    if (kept_.size() > most_kept) kept_.pop_back();
    return picture;
  }

  /// Chunks are four blocks high.
  static constexpr std::size_t most_kept = 160;
  std::vector<std::string> paths_;
  VoxelCell size_{0, 0, 0};
  mutable std::mutex held_;
  mutable std::list<std::pair<int, std::shared_ptr<const Texture>>> kept_;
};

class HeightSource final : public VoxelSource {
 public:
  explicit HeightSource(const VoxelHeights& heights) : height_(static_cast<int>(heights.height)) {
    if (heights.height < 1 || heights.height > most_side) {
      throw Error(ErrorKind::input,
                  fmt::format("a height of {} cells, expected 1 to {}", heights.height, most_side));
    }
    if (heights.layers.empty()) throw Error(ErrorKind::input, "heights without a layer");
    int depth = 0;
    for (const VoxelHeights::Layer& layer : heights.layers) {
      palette_.kinds.push_back(layer.kind);
      const bool last = &layer == &heights.layers.back();
      if (!last && (layer.depth < 1 || layer.depth > most_side)) {
        throw Error(ErrorKind::input,
                    fmt::format("a layer {} cells deep, expected 1 to {}", layer.depth, most_side));
      }
      depth += last ? 0 : static_cast<int>(layer.depth);
      ends_.push_back(depth);
    }
    const HeightMap map = read_heights(heights.path);
    columns_ = map.columns;
    rows_ = map.rows;
    for (const float height : map.heights) {
      ground_.push_back(
          static_cast<std::int32_t>(std::lround(height * static_cast<float>(height_))));
    }
    range_ = GroundRange(columns_, rows_, [&](int x, int y) { return ground(x, y); });
  }

  VoxelCell size() const override { return {columns_, rows_, height_}; }
  VoxelPalette palette() const override { return palette_; }
  std::optional<std::uint32_t> known(const VoxelBox& box) const override {
    const auto [low, high] = range_.of(box);
    if (box.low[2] >= high) return 0;
    if (box.high[2] <= low - ends_.back()) {
      return static_cast<std::uint32_t>(palette_.kinds.size());
    }
    return {};
  }
  void read(const VoxelCell& low, std::uint32_t* values) const override {
    std::fill_n(values, block, 0u);
    for (int y = 0; y < std::min(side, rows_ - low[1]); ++y) {
      for (int x = 0; x < std::min(side, columns_ - low[0]); ++x) {
        const int top = ground(low[0] + x, low[1] + y);
        for (int z = 0; z < std::min(side, top - low[2]); ++z) {
          const int depth = top - 1 - (low[2] + z);
          const auto layer = std::upper_bound(ends_.begin(), ends_.end() - 1, depth);
          values[index_in(x, y, z)] = static_cast<std::uint32_t>(layer - ends_.begin()) + 1;
        }
      }
    }
  }

 private:
  int ground(int x, int y) const {
    return ground_[static_cast<std::size_t>(y) * static_cast<std::size_t>(columns_) +
                   static_cast<std::size_t>(x)];
  }

  int height_;
  int columns_ = 0;
  int rows_ = 0;
  std::vector<std::int32_t> ground_;  ///< the lowest empty cell of a column
  GroundRange range_;
  std::vector<int> ends_;  ///< how deep each layer ends; the last begins there
  VoxelPalette palette_;
};

}  // namespace

std::unique_ptr<VoxelSource> open_raw_voxels(const RawVoxels& raw) {
  return std::make_unique<RawSource>(raw);
}
std::unique_ptr<VoxelSource> open_voxel_slices(const VoxelSlices& slices) {
  return std::make_unique<SliceSource>(slices);
}
std::unique_ptr<VoxelSource> open_voxel_heights(const VoxelHeights& heights) {
  return std::make_unique<HeightSource>(heights);
}

VoxelPoints::VoxelPoints(const SphereFiles& files, double cell) {
  if (!(cell > 0) || !std::isfinite(cell)) {
    throw Error(ErrorKind::input, fmt::format("cells of {} m, expected more than 0", cell));
  }
  const std::unique_ptr<SphereSource> source = open_spheres(files);
  palette_.direct = source->has_colors();
  Vec3d low = Vec3d::Constant(std::numeric_limits<double>::infinity());
  Vec3d high = -low;
  std::uint32_t largest = 0;
  std::uint64_t count = 0;
  for (std::size_t stretch = 0; stretch < source->stretches(); ++stretch) {
    source->read(stretch, [&](const SphereRun& run) {
      for (std::size_t i = 0; i < run.count; ++i) {
        const Vec3d place(run.x[i], run.y[i], run.z[i]);
        if (!place.allFinite()) {
          throw Error(ErrorKind::input, fmt::format("point {}: not finite", count + i));
        }
        low = low.cwiseMin(place);
        high = high.cwiseMax(place);
        if (source->has_materials()) largest = std::max(largest, run.material[i]);
      }
      count += run.count;
    });
  }
  if (count == 0) throw Error(ErrorKind::input, "no point");
  if (!palette_.direct) {
    if (largest > 65534) {
      throw Error(ErrorKind::input,
                  fmt::format("a material of number {}, expected 65534 at most", largest));
    }
    if (source->has_materials()) {
      for (std::uint32_t n = 0; n <= largest; ++n) palette_.kinds.push_back({static_cast<int>(n)});
    } else {
      palette_.kinds.push_back({});
    }
  }
  for (int axis = 0; axis < 3; ++axis) {
    const double first = std::floor(low[axis] / cell);
    const double cells = std::floor(high[axis] / cell) - first + 1;
    if (!(cells <= most_side)) {
      throw Error(
          ErrorKind::input,
          fmt::format("points over {:.4g} m, which is {:.0f} cells of {:.4g} m; expected {} "
                      "at most",
                      high[axis] - low[axis], cells, cell, most_side));
    }
    corner_[axis] = first * cell;
    size_[static_cast<std::size_t>(axis)] = static_cast<std::int32_t>(cells);
  }
  points_.reserve(count);
  for (std::size_t stretch = 0; stretch < source->stretches(); ++stretch) {
    source->read(stretch, [&](const SphereRun& run) {
      for (std::size_t i = 0; i < run.count; ++i) {
        const double place[3] = {run.x[i], run.y[i], run.z[i]};
        VoxelCell own;
        for (std::size_t axis = 0; axis < 3; ++axis) {
          const double first = std::floor(low[static_cast<int>(axis)] / cell);
          own[axis] = std::clamp(static_cast<std::int32_t>(std::floor(place[axis] / cell) - first),
                                 0, size_[axis] - 1);
        }
        std::uint32_t value = 1;
        if (palette_.direct) {
          value = run.color[i] + 1;
        } else if (source->has_materials()) {
          value = run.material[i] + 1;
        }
        points_.push_back(
            {block_of(own),
             static_cast<std::uint32_t>(index_in(own[0] % side, own[1] % side, own[2] % side)),
             value});
      }
    });
  }
  std::stable_sort(points_.begin(), points_.end(),
                   [](const Point& one, const Point& other) { return one.block < other.block; });
}

std::uint64_t VoxelPoints::block_of(const VoxelCell& cell) {
  std::uint64_t number = 0;
  for (unsigned bit = 0; bit < 12; ++bit) {
    for (unsigned axis = 0; axis < 3; ++axis) {
      const auto own = static_cast<std::uint64_t>(cell[axis] / side);
      number |= (own >> bit & 1) << (3 * bit + axis);
    }
  }
  return number;
}

std::vector<VoxelPoints::Point>::const_iterator VoxelPoints::from_block(
    std::uint64_t number) const {
  return std::lower_bound(points_.begin(), points_.end(), number,
                          [](const Point& point, std::uint64_t of) { return point.block < of; });
}

std::optional<std::uint32_t> VoxelPoints::known(const VoxelBox& box) const {
  // The blocks of a cube have numbers one behind the other.
  const std::uint64_t first = block_of(box.low);
  const auto across = static_cast<std::uint64_t>((box.high[0] - box.low[0]) / side);
  const auto found = from_block(first);
  if (found != points_.end() && found->block < first + across * across * across) return {};
  return 0;
}

void VoxelPoints::read(const VoxelCell& low, std::uint32_t* values) const {
  std::fill_n(values, block, 0u);
  const std::uint64_t own = block_of(low);
  auto point = from_block(own);
  for (; point != points_.end() && point->block == own; ++point) {
    values[point->cell] = point->value;
  }
}

}  // namespace photonlane::io
