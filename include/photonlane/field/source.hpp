#pragma once

/// Shapes that are data or functions of one's own: anything that can say how far it is.
///
///   const Field egg = field::function({.name = "egg",
///                                      .bounds = {{-1, -1, -1}, {1, 1, 1}},
///                                      .stretch = 1,
///                                      .values = [](const SourceBatch<double>& batch) {
///     for (std::size_t i = 0; i < batch.count; ++i) {
///       batch.value[i] = std::hypot(batch.x[i], batch.y[i], batch.z[i]) - 0.8;
///     }
///   }});

#include <array>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <span>
#include <string>
#include <vector>

#include "photonlane/base/bounds.hpp"
#include "photonlane/base/vector.hpp"
#include "photonlane/field/fold.hpp"

namespace photonlane {

/// Places, one array a coordinate, and where their values go.
template <class Number>
struct SourceBatch {
  std::size_t count = 0;
  const Number* x = nullptr;
  const Number* y = nullptr;
  const Number* z = nullptr;
  Number* value = nullptr;
  /// Where the value grows, by how much for a meter; all null where they are not asked for.
  Number* slope_x = nullptr;
  Number* slope_y = nullptr;
  Number* slope_z = nullptr;
  /// Detail smaller than this, in meters, does not matter; null: all of it does.
  const Number* footprint = nullptr;
  /// What decides the material, from 0 to 1; null where it is not asked for.
  Number* tint = nullptr;
  TintBy tint_by = TintBy::trap;
};

/// What a shape asks for its values, a batch at a time: from any thread, the same each time. What a
/// batch holds does not change what any of its places gets.
class FieldSource {
 public:
  FieldSource() = default;
  FieldSource(const FieldSource&) = delete;
  FieldSource& operator=(const FieldSource&) = delete;
  virtual ~FieldSource() = default;

  virtual void ask(const SourceBatch<float>& batch) const = 0;
  virtual void ask(const SourceBatch<double>& batch) const = 0;

  /// Holds everything at or below 0.
  virtual Bounds bounds() const = 0;
  /// A surface is nowhere nearer than the value over this: what Field::stretch() tells.
  virtual double stretch() const = 0;
  /// As Field::looseness().
  virtual double looseness() const { return 1; }
  /// Whether values also grow by at most `stretch` for a meter, rather than only keep steps of
  /// value / stretch from going through a surface.
  virtual bool steady() const { return true; }
  /// For messages, and in files the name of the file it is from.
  virtual const std::string& name() const = 0;
  virtual std::size_t memory_bytes() const { return 0; }
};

/// A function of one's own.
struct FieldFunction {
  std::string name = "function";
  Bounds bounds;         ///< hold everything at or below 0
  double stretch = 1;    ///< its values grow by at most this for a meter
  double looseness = 1;  ///< a surface is at most this times the value away: 1 for distances

  /// Writes `value`; the slopes too where `slopes` says so and they are asked for, else they are
  /// differenced.
  std::function<void(const SourceBatch<double>&)> values;
  bool slopes = false;
};

/// Heights over a rectangle, row after row from its low y on, in columns along x; between them they
/// are a smooth surface (a biquadratic spline that goes through them).
struct HeightMap {
  static constexpr int largest_side = 16384;
  static constexpr std::size_t most_heights = std::size_t{1} << 24;
  static constexpr bool fits(int columns, int rows) {
    return columns >= 2 && rows >= 2 && columns <= largest_side && rows <= largest_side &&
           static_cast<std::size_t>(columns) * static_cast<std::size_t>(rows) <= most_heights;
  }

  std::string name = "heights";
  int columns = 0;
  int rows = 0;
  std::vector<float> heights;  ///< meters
};
/// A map of a function over a rectangle of that size about the origin. Throws Error (input) for
/// fewer than 2 or more than 16384 columns or rows, and for more than 2^24 heights.
HeightMap sample_heights(const Vec2d& size, int columns, int rows,
                         const std::function<double(double x, double y)>& height);

/// How a volume's numbers are kept.
enum class VolumeStorage { floats, words, bytes };

/// A distance function sampled at the points of a lattice; between them it is a smooth function (a
/// triquadratic spline that goes through them).
struct Volume {
  static constexpr int largest_side = 4096;

  std::string name = "volume";
  Bounds box;                 ///< the lattice's outermost points
  std::array<int, 3> size{};  ///< points along each axis
  /// The spline's factors, x fastest, then y: value = low + step * number.
  VolumeStorage storage = VolumeStorage::floats;
  double low = 0;
  double step = 1;
  std::vector<float> floats;
  std::vector<std::uint16_t> words;
  std::vector<std::uint8_t> bytes;

  std::size_t count() const {
    return static_cast<std::size_t>(size[0]) * static_cast<std::size_t>(size[1]) *
           static_cast<std::size_t>(size[2]);
  }
  std::size_t memory_bytes() const {
    return floats.size() * sizeof(float) + words.size() * sizeof(std::uint16_t) + bytes.size();
  }
};

}  // namespace photonlane
