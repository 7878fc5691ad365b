#include "field/sources.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "field/spline.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/random.hpp"

namespace photonlane {
namespace {

[[noreturn]] void refuse(const std::string& name, const std::string& what) {
  throw Error(ErrorKind::input, fmt::format("{}: {}", name, what));
}

/// Asks a function of doubles for floats too, and differences where it has no slopes.
class FunctionSource final : public FieldSource {
 public:
  explicit FunctionSource(FieldFunction function) : function_(std::move(function)) {
    if (!function_.values) refuse(function_.name, "a field of no function");
    if (!(function_.stretch > 0 && std::isfinite(function_.stretch))) {
      refuse(function_.name, fmt::format("a stretch of {}, expected one above 0 that is finite",
                                         function_.stretch));
    }
    if (!(function_.looseness >= 1 && std::isfinite(function_.looseness))) {
      refuse(function_.name,
             fmt::format("a looseness of {}, expected one of at least 1", function_.looseness));
    }
    if (!((function_.bounds.high - function_.bounds.low).minCoeff() >= 0)) {
      refuse(function_.name, "bounds of which the low end is above the high one");
    }
    try_places();
  }

  void ask(const SourceBatch<double>& batch) const override {
    if (batch.slope_x == nullptr || function_.slopes) return function_.values(batch);
    SourceBatch<double> plain = batch;
    plain.slope_x = plain.slope_y = plain.slope_z = nullptr;
    function_.values(plain);
    const double* const from[3] = {batch.x, batch.y, batch.z};
    double* const to[3] = {batch.slope_x, batch.slope_y, batch.slope_z};
    constexpr double step = 1e-5;
    std::vector<double> moved(batch.count);
    std::vector<double> ahead(batch.count);
    std::vector<double> behind(batch.count);
    for (int axis = 0; axis < 3; ++axis) {
      SourceBatch<double> beside = plain;
      (axis == 0 ? beside.x : axis == 1 ? beside.y : beside.z) = moved.data();
      const auto look = [&](double way, std::vector<double>& values) {
        for (std::size_t i = 0; i < batch.count; ++i) moved[i] = from[axis][i] + way;
        beside.value = values.data();
        function_.values(beside);
      };
      look(step, ahead);
      look(-step, behind);
      for (std::size_t i = 0; i < batch.count; ++i) {
        to[axis][i] = (ahead[i] - behind[i]) / (2 * step);
      }
    }
  }

  void ask(const SourceBatch<float>& batch) const override {
    const std::size_t count = batch.count;
    std::vector<double> numbers(7 * count);
    const auto column = [&](std::size_t i) { return numbers.data() + i * count; };
    std::copy_n(batch.x, count, column(0));
    std::copy_n(batch.y, count, column(1));
    std::copy_n(batch.z, count, column(2));
    SourceBatch<double> wide{count, column(0), column(1), column(2), column(3)};
    if (batch.slope_x != nullptr) {
      wide.slope_x = column(4);
      wide.slope_y = column(5);
      wide.slope_z = column(6);
    }
    ask(wide);
    const auto narrow = [&](const double* from, float* to) {
      for (std::size_t i = 0; i < count; ++i) to[i] = static_cast<float>(from[i]);
    };
    narrow(wide.value, batch.value);
    if (batch.slope_x == nullptr) return;
    narrow(wide.slope_x, batch.slope_x);
    narrow(wide.slope_y, batch.slope_y);
    narrow(wide.slope_z, batch.slope_z);
  }

  Bounds bounds() const override { return function_.bounds; }
  double stretch() const override { return function_.stretch; }
  double looseness() const override { return function_.looseness; }
  const std::string& name() const override { return function_.name; }

 private:
  /// Refuses functions that say what is no number, and those that are solid outside of their
  /// bounds, as far as some places in and around them tell.
  void try_places() const {
    constexpr std::size_t count = 512;
    std::vector<double> numbers(4 * count);
    double* const place[3] = {numbers.data(), numbers.data() + count, numbers.data() + 2 * count};
    for (std::size_t i = 0; i < count; ++i) {
      for (std::uint32_t axis = 0; axis < 3; ++axis) {
        const double low = std::max(function_.bounds.low[axis], -100.0);
        const double high = std::max(std::min(function_.bounds.high[axis], 100.0), low);
        const double share = random_uniform({.seed = 0xf1e1d, .pixel = i}, axis);
        place[axis][i] = i == 0 ? 0.5 * (low + high) : low + (1.5 * share - 0.25) * (high - low);
      }
    }
    // And all over a box a little larger than the bounds: nothing may be solid there.
    constexpr std::size_t side = 7;
    static_assert(6 * side * side <= count);
    std::size_t n = 0;
    const bool bounded = function_.bounds.finite();
    for (int face = 0; bounded && face < 6; ++face) {
      for (std::size_t k = 0; k < side * side; ++k, ++n) {
        const int axis = face / 2;
        const double share[2] = {(static_cast<double>(k % side) + 0.5) / side,
                                 (static_cast<double>(k / side) + 0.5) / side};
        const Vec3d size = function_.bounds.high - function_.bounds.low;
        const double out = 1e-3 * size.maxCoeff() + 1e-9;
        place[axis][n] =
            face % 2 == 0 ? function_.bounds.low[axis] - out : function_.bounds.high[axis] + out;
        for (int other = 1; other < 3; ++other) {
          const int across = (axis + other) % 3;
          place[across][n] = function_.bounds.low[across] + share[other - 1] * size[across];
        }
      }
    }
    double* value = numbers.data() + 3 * count;
    function_.values({count, place[0], place[1], place[2], value});
    for (std::size_t i = 0; i < count; ++i) {
      const Vec3d at(place[0][i], place[1][i], place[2][i]);
      if (!std::isfinite(value[i])) {
        refuse(function_.name, fmt::format("{} at [{:.6g}, {:.6g}, {:.6g}], expected a number",
                                           std::isnan(value[i]) ? "not a number" : "infinite",
                                           at.x(), at.y(), at.z()));
      }
      const bool outside = ((at - function_.bounds.low).array() < 0).any() ||
                           ((function_.bounds.high - at).array() < 0).any();
      if (bounded && outside && value[i] < 0) {
        refuse(
            function_.name,
            fmt::format("{:.3g} at [{:.6g}, {:.6g}, {:.6g}], outside its bounds, expected bounds "
                        "that hold all of it",
                        value[i], at.x(), at.y(), at.z()));
      }
    }
  }

  FieldFunction function_;
};

/// How far below a surface of heights, over the longest that a meter of it can be.
class HeightSource final : public FieldSource {
 public:
  HeightSource(const HeightMap& map, const Vec3d& size)
      : name_(map.name), columns_(map.columns), rows_(map.rows), size_(size) {
    if (!HeightMap::fits(map.columns, map.rows)) {
      refuse(name_,
             fmt::format("heights of {}x{}, expected 2 to {} either way and at most {}",
                         map.columns, map.rows, HeightMap::largest_side, HeightMap::most_heights));
    }
    const std::size_t across = columns();
    if (map.heights.size() != across * rows()) {
      refuse(name_, fmt::format("{} heights, expected {}", map.heights.size(), across * rows()));
    }
    std::vector<double> values(map.heights.begin(), map.heights.end());
    for (double& value : values) {
      if (!std::isfinite(value)) refuse(name_, "a height that is not a number");
      value *= size.z();
    }
    for (std::size_t y = 0; y < rows(); ++y) make_spline(values.data() + y * across, across, 1);
    for (std::size_t x = 0; x < across; ++x) make_spline(values.data() + x, rows(), across);
    factors_.assign(values.begin(), values.end());
    per_meter_ = {(map.columns - 1) / size.x(), (map.rows - 1) / size.y()};

    highest_ = *std::max_element(factors_.begin(), factors_.end());
    steepness_ = std::hypot(1.0, steepest());
  }

  void ask(const SourceBatch<float>& batch) const override { give(batch); }
  void ask(const SourceBatch<double>& batch) const override { give(batch); }
  Bounds bounds() const override {
    constexpr double infinite = std::numeric_limits<double>::infinity();
    return {{-infinite, -infinite, -infinite}, {infinite, infinite, highest_}};
  }
  double stretch() const override { return 1; }
  double looseness() const override { return steepness_; }
  const std::string& name() const override { return name_; }
  std::size_t memory_bytes() const override { return factors_.size() * sizeof(float); }

 private:
  std::size_t columns() const { return static_cast<std::size_t>(columns_); }
  std::size_t rows() const { return static_cast<std::size_t>(rows_); }

  /// The slope is nowhere steeper than the steepest between factors that lie beside one another.
  double steepest() const {
    double most = 0;
    for (std::size_t y = 0; y < rows(); ++y) {
      for (std::size_t x = 0; x < columns(); ++x) {
        double along_x = 0;
        double along_y = 0;
        const std::size_t x0 = x > 0 ? x - 1 : 0;
        const std::size_t y0 = y > 0 ? y - 1 : 0;
        const std::size_t x1 = std::min(x + 1, columns() - 1);
        const std::size_t y1 = std::min(y + 1, rows() - 1);
        for (std::size_t j = y0; j <= y1; ++j) {
          for (std::size_t i = x0; i <= x1; ++i) {
            const double here = factors_[j * columns() + i];
            if (i < x1) {
              along_x = std::max(along_x, std::abs(factors_[j * columns() + i + 1] - here));
            }
            if (j < y1) {
              along_y = std::max(along_y, std::abs(factors_[(j + 1) * columns() + i] - here));
            }
          }
        }
        most = std::max(most, std::hypot(along_x * per_meter_.x(), along_y * per_meter_.y()));
      }
    }
    return most;
  }

  template <class Number>
  void give(const SourceBatch<Number>& batch) const {
    const auto half_x = static_cast<Number>(0.5 * size_.x());
    const auto half_y = static_cast<Number>(0.5 * size_.y());
    const auto rate_x = static_cast<Number>(per_meter_.x());
    const auto rate_y = static_cast<Number>(per_meter_.y());
    const auto less = static_cast<Number>(1 / steepness_);
    for (std::size_t n = 0; n < batch.count; ++n) {
      // Beside the rectangle as on its rim.
      const Number x = std::clamp(batch.x[n], -half_x, half_x);
      const Number y = std::clamp(batch.y[n], -half_y, half_y);
      const SplineStencil<Number> across((x + half_x) * rate_x, columns());
      const SplineStencil<Number> along((y + half_y) * rate_y, rows());
      const std::size_t wide = across.width(columns());
      Number height = 0;
      Number slope_x = 0;
      Number slope_y = 0;
      for (std::size_t j = 0; j < along.width(rows()); ++j) {
        const float* row = factors_.data() + (along.first + j) * columns() + across.first;
        Number sum = 0;
        Number slope = 0;
        for (std::size_t i = 0; i < wide; ++i) {
          sum += across.weight[i] * row[i];
          slope += across.slope[i] * row[i];
        }
        height += along.weight[j] * sum;
        slope_x += along.weight[j] * slope;
        slope_y += along.slope[j] * sum;
      }
      batch.value[n] = (batch.z[n] - height) * less;
      if (batch.slope_x == nullptr) continue;
      batch.slope_x[n] = x == batch.x[n] ? -slope_x * rate_x * less : 0;
      batch.slope_y[n] = y == batch.y[n] ? -slope_y * rate_y * less : 0;
      batch.slope_z[n] = less;
    }
  }

  std::string name_;
  int columns_, rows_;
  Vec3d size_;
  Vec2d per_meter_;
  std::vector<float> factors_;

  double highest_ = 0;
  double steepness_ = 1;
};

/// A sampled distance. Outside its box the surface, which is all within, is at least as far as the
/// hypotenuse of the way to the box and the distance there: the angle between them is at least a
/// right one.
class VolumeSource final : public FieldSource {
 public:
  explicit VolumeSource(std::shared_ptr<const Volume> volume) : volume_(std::move(volume)) {
    if (volume_ == nullptr) throw Error(ErrorKind::input, "a field of no volume");
    const Volume& v = *volume_;
    for (const int side : v.size) {
      if (side < 2 || side > Volume::largest_side) {
        refuse(v.name, fmt::format("a volume of {}x{}x{}, expected 2 to {} points each way",
                                   v.size[0], v.size[1], v.size[2], Volume::largest_side));
      }
    }
    const std::size_t kept = v.storage == VolumeStorage::floats  ? v.floats.size()
                             : v.storage == VolumeStorage::words ? v.words.size()
                                                                 : v.bytes.size();
    if (kept != v.count()) {
      refuse(v.name, fmt::format("a volume of {} numbers, expected {}", kept, v.count()));
    }
    if (!v.box.finite() || !((v.box.high - v.box.low).minCoeff() > 0)) {
      refuse(v.name, "a volume of a box without size");
    }
    for (int axis = 0; axis < 3; ++axis) {
      per_meter_[axis] = (v.size[axis] - 1) / (v.box.high[axis] - v.box.low[axis]);
    }
    with_numbers([&](const auto* numbers) { stretch_ = v.step * steepest(numbers); });
    const auto broken = [](float value) { return !std::isfinite(value); };
    if (std::any_of(v.floats.begin(), v.floats.end(), broken) || !std::isfinite(stretch_)) {
      refuse(v.name, "a volume of values that are not numbers");
    }
    stretch_ = std::max(stretch_, 1e-6);
  }

  void ask(const SourceBatch<float>& batch) const override {
    with_numbers([&](const auto* numbers) { give(batch, numbers); });
  }
  void ask(const SourceBatch<double>& batch) const override {
    with_numbers([&](const auto* numbers) { give(batch, numbers); });
  }
  Bounds bounds() const override { return volume_->box; }
  double stretch() const override { return std::max(stretch_, 1.0); }
  /// How far a surface is where the value is small is not told by samples.
  double looseness() const override { return 2; }
  const std::string& name() const override { return volume_->name; }
  std::size_t memory_bytes() const override { return volume_->memory_bytes(); }

 private:
  template <class Work>
  void with_numbers(const Work& work) const {
    switch (volume_->storage) {
      case VolumeStorage::floats:
        return work(volume_->floats.data());
      case VolumeStorage::words:
        return work(volume_->words.data());
      case VolumeStorage::bytes:
        return work(volume_->bytes.data());
    }
  }
  std::size_t side(int axis) const { return static_cast<std::size_t>(volume_->size[axis]); }

  /// The slope is nowhere steeper than the differences between factors that lie around: the largest
  /// along each axis, of those that one place depends on.
  template <class Kept>
  double steepest(const Kept* numbers) const {
    const std::size_t strides[3] = {1, side(0), side(0) * side(1)};
    double most = 0;
    for (std::size_t z = 0; z < side(2); ++z) {
      for (std::size_t y = 0; y < side(1); ++y) {
        for (std::size_t x = 0; x < side(0); ++x) {
          const std::size_t at[3] = {x, y, z};
          std::size_t low[3];
          std::size_t high[3];
          for (int axis = 0; axis < 3; ++axis) {
            low[axis] = at[axis] > 0 ? at[axis] - 1 : 0;
            high[axis] = std::min(at[axis] + 1, side(axis) - 1);
          }
          double along[3] = {0, 0, 0};
          for (std::size_t k = low[2]; k <= high[2]; ++k) {
            for (std::size_t j = low[1]; j <= high[1]; ++j) {
              for (std::size_t i = low[0]; i <= high[0]; ++i) {
                const Kept* here = numbers + i + j * strides[1] + k * strides[2];
                const std::size_t is[3] = {i, j, k};
                for (int axis = 0; axis < 3; ++axis) {
                  if (is[axis] == high[axis]) continue;
                  const double step =
                      static_cast<double>(here[strides[axis]]) - static_cast<double>(here[0]);
                  along[axis] = std::max(along[axis], std::abs(step));
                }
              }
            }
          }
          double square = 0;
          for (int axis = 0; axis < 3; ++axis) {
            square += along[axis] * along[axis] * per_meter_[axis] * per_meter_[axis];
          }
          most = std::max(most, square);
        }
      }
    }
    return std::sqrt(most);
  }

  template <class Number, class Kept>
  void give(const SourceBatch<Number>& batch, const Kept* numbers) const {
    Number low[3];
    Number high[3];
    Number rate[3];
    for (int axis = 0; axis < 3; ++axis) {
      low[axis] = static_cast<Number>(volume_->box.low[axis]);
      high[axis] = static_cast<Number>(volume_->box.high[axis]);
      rate[axis] = static_cast<Number>(per_meter_[axis]);
    }
    const auto least = static_cast<Number>(volume_->low);
    const auto step = static_cast<Number>(volume_->step);
    for (std::size_t n = 0; n < batch.count; ++n) {
      const Number place[3] = {batch.x[n], batch.y[n], batch.z[n]};
      Number within[3];
      Number beyond = 0;
      for (int axis = 0; axis < 3; ++axis) {
        within[axis] = std::clamp(place[axis], low[axis], high[axis]);
        beyond += (place[axis] - within[axis]) * (place[axis] - within[axis]);
      }
      const SplineStencil<Number> x((within[0] - low[0]) * rate[0], side(0));
      const SplineStencil<Number> y((within[1] - low[1]) * rate[1], side(1));
      const SplineStencil<Number> z((within[2] - low[2]) * rate[2], side(2));
      Number sum = 0;
      Number slope[3] = {0, 0, 0};
      const std::size_t wide = x.width(side(0));
      for (std::size_t k = 0; k < z.width(side(2)); ++k) {
        for (std::size_t j = 0; j < y.width(side(1)); ++j) {
          const Kept* row = numbers + x.first + side(0) * (y.first + j + side(1) * (z.first + k));
          Number line = 0;
          Number along = 0;
          for (std::size_t i = 0; i < wide; ++i) {
            line += x.weight[i] * static_cast<Number>(row[i]);
            along += x.slope[i] * static_cast<Number>(row[i]);
          }
          sum += y.weight[j] * z.weight[k] * line;
          slope[0] += y.weight[j] * z.weight[k] * along;
          slope[1] += y.slope[j] * z.weight[k] * line;
          slope[2] += y.weight[j] * z.slope[k] * line;
        }
      }
      const Number value = least + step * sum;
      for (int axis = 0; axis < 3; ++axis) slope[axis] *= step * rate[axis];
      Number result = value;
      if (beyond > 0) {
        const Number inside = std::max(value, Number(0));
        result = std::sqrt(beyond + inside * inside);
        for (int axis = 0; axis < 3; ++axis) {
          const Number out = place[axis] - within[axis];
          slope[axis] = (out != 0 ? out : inside * slope[axis]) / result;
        }
      }
      batch.value[n] = result;
      if (batch.slope_x == nullptr) continue;
      batch.slope_x[n] = slope[0];
      batch.slope_y[n] = slope[1];
      batch.slope_z[n] = slope[2];
    }
  }

  std::shared_ptr<const Volume> volume_;
  Vec3d per_meter_;
  double stretch_ = 1;
};

}  // namespace

std::shared_ptr<const FieldSource> make_function_source(FieldFunction function) {
  return std::make_shared<FunctionSource>(std::move(function));
}
std::shared_ptr<const FieldSource> make_height_source(const HeightMap& map, const Vec3d& size) {
  return std::make_shared<HeightSource>(map, size);
}
std::shared_ptr<const FieldSource> make_volume_source(std::shared_ptr<const Volume> volume) {
  return std::make_shared<VolumeSource>(std::move(volume));
}

HeightMap sample_heights(const Vec2d& size, int columns, int rows,
                         const std::function<double(double x, double y)>& height) {
  if (!HeightMap::fits(columns, rows)) {
    throw Error(ErrorKind::input,
                fmt::format("heights of {}x{}, expected 2 to {} either way and at most {}", columns,
                            rows, HeightMap::largest_side, HeightMap::most_heights));
  }
  HeightMap map;
  map.columns = columns;
  map.rows = rows;
  map.heights.reserve(static_cast<std::size_t>(columns) * static_cast<std::size_t>(rows));
  for (int row = 0; row < rows; ++row) {
    for (int column = 0; column < columns; ++column) {
      map.heights.push_back(
          static_cast<float>(height(size.x() * (static_cast<double>(column) / (columns - 1) - 0.5),
                                    size.y() * (static_cast<double>(row) / (rows - 1) - 0.5))));
    }
  }
  return map;
}

}  // namespace photonlane
