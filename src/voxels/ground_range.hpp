#pragma once

#include <algorithm>
#include <cstdint>
#include <functional>
#include <limits>
#include <vector>

#include "photonlane/voxels/voxel_grid.hpp"

namespace photonlane {

/// The lowest and the highest of many columns, over rectangles of any size: of squares of 16
/// columns a side, of 4 x 4 of those, and so on.
class GroundRange {
 public:
  GroundRange() = default;
  GroundRange(int columns, int rows, const std::function<int(int x, int y)>& ground) {
    int side = smallest;
    Level first(columns, rows, side);
    for (int y = 0; y < rows; ++y) {
      for (int x = 0; x < columns; ++x)
        first.take(x / side, y / side, {ground(x, y), ground(x, y)});
    }
    levels_.push_back(std::move(first));
    while (levels_.back().ranges.size() > 1) {
      const Level& below = levels_.back();
      side *= 4;
      Level next(columns, rows, side);
      for (int y = 0; y < below.rows; ++y) {
        for (int x = 0; x < below.columns; ++x) next.take(x / 4, y / 4, below.at(x, y));
      }
      levels_.push_back(std::move(next));
    }
  }

  struct Range {
    int low = std::numeric_limits<int>::max();
    int high = std::numeric_limits<int>::min();
  };
  /// Of the columns of a box and of so many around it, those that are there; somewhat wider, since
  /// whole squares are looked at.
  Range of(const VoxelBox& box, int around = 0) const {
    const int across = box.high[0] - box.low[0] + 2 * around;
    std::size_t k = 0;
    while (k + 1 < levels_.size() && levels_[k].side < across) ++k;
    const Level& level = levels_[k];
    const auto square = [&](int at, int count) {
      return std::clamp(at >= 0 ? at / level.side : -1, 0, count - 1);
    };
    Range range;
    for (int y = square(box.low[1] - around, level.rows);
         y <= square(box.high[1] - 1 + around, level.rows); ++y) {
      for (int x = square(box.low[0] - around, level.columns);
           x <= square(box.high[0] - 1 + around, level.columns); ++x) {
        range.low = std::min(range.low, level.at(x, y).low);
        range.high = std::max(range.high, level.at(x, y).high);
      }
    }
    return range;
  }

 private:
  static constexpr int smallest = VoxelSource::side;

  struct Level {
    Level(int all_columns, int all_rows, int of_side)
        : side(of_side),
          columns((all_columns + of_side - 1) / of_side),
          rows((all_rows + of_side - 1) / of_side),
          ranges(static_cast<std::size_t>(columns) * static_cast<std::size_t>(rows)) {}
    const Range& at(int x, int y) const {
      return ranges[static_cast<std::size_t>(y) * static_cast<std::size_t>(columns) +
                    static_cast<std::size_t>(x)];
    }
    void take(int x, int y, const Range& other) {
      Range& own = ranges[static_cast<std::size_t>(y) * static_cast<std::size_t>(columns) +
                          static_cast<std::size_t>(x)];
      own.low = std::min(own.low, other.low);
      own.high = std::max(own.high, other.high);
    }

    int side, columns, rows;
    std::vector<Range> ranges;
  };

  std::vector<Level> levels_;
};

}  // namespace photonlane
