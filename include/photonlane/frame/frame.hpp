#pragma once

#include <array>
#include <cstdint>
#include <initializer_list>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "photonlane/base/buffer.hpp"
#include "photonlane/base/stages.hpp"
#include "photonlane/lane/budget.hpp"
#include "photonlane/lane/lanes.hpp"
#include "photonlane/lane/tally.hpp"

namespace photonlane {

/// The named layers of a frame. Only those asked for are made: each is a price.
enum class Layer {
  color,
  display,
  depth,
  ray_distance,
  face,
  cell,
  steps,
  ending,
  normal,
  material,
  evaluations,
  nearest,
  overstretched,
  crossings,
  room,
  smooth_count,
  edge_distance,
  trap,
  cost,
  work,
  alpha,
  motion,
  radiance,
  bounces,
  samples,
  variance,
  emission,
  albedo,
  light_0,
  light_1,
  light_2,
  light_3,
  light_4,
  light_5,
  light_6,
  light_7
};
inline constexpr std::size_t layer_count = 36;
template <>
inline constexpr std::array<std::string_view, layer_count> choice_names<Layer>{
    "color",         "display",   "depth",    "ray_distance", "face",          "cell",
    "steps",         "ending",    "normal",   "material",     "evaluations",   "nearest",
    "overstretched", "crossings", "room",     "smooth_count", "edge_distance", "trap",
    "cost",          "work",      "alpha",    "motion",       "radiance",      "bounces",
    "samples",       "variance",  "emission", "albedo",       "light.0",       "light.1",
    "light.2",       "light.3",   "light.4",  "light.5",      "light.6",       "light.7"};

struct LayerInfo {
  std::string_view unit;
  std::string_view help;
  int channels = 1;
  bool codes = false;  ///< 32-bit whole numbers instead of floats
};
/// Throws Error (usage) for a number that is no layer.
const LayerInfo& layer_info(Layer layer);

/// A set of layers.
class LayerSet {
 public:
  constexpr LayerSet() = default;
  constexpr LayerSet(std::initializer_list<Layer> layers) {
    for (const Layer layer : layers) add(layer);
  }
  /// All that can be measured of rooms: everything but the display layer, which follows from color.
  static constexpr LayerSet measurable() {
    LayerSet all;
    for (std::size_t i = 0; i <= static_cast<std::size_t>(Layer::room); ++i) {
      all.add(static_cast<Layer>(i));
    }
    all.bits_ &= ~bit(Layer::display);
    return all;
  }
  /// All that can be measured of planes.
  static constexpr LayerSet of_planes() {
    return {Layer::color,        Layer::steps,         Layer::ending,
            Layer::smooth_count, Layer::edge_distance, Layer::trap};
  }
  constexpr void add(Layer layer) { bits_ |= bit(layer); }
  constexpr bool has(Layer layer) const { return (bits_ & bit(layer)) != 0; }
  /// All that only path-traced light has.
  static constexpr LayerSet of_paths() {
    LayerSet all;
    for (std::size_t i = static_cast<std::size_t>(Layer::radiance); i < layer_count; ++i) {
      all.add(static_cast<Layer>(i));
    }
    return all;
  }
  constexpr void remove(LayerSet other) { bits_ &= ~other.bits_; }
  constexpr bool any_of(LayerSet other) const { return (bits_ & other.bits_) != 0; }
  /// Those it has, in their order.
  std::vector<Layer> list() const {
    std::vector<Layer> result;
    for (std::size_t i = 0; i < layer_count; ++i) {
      if (has(static_cast<Layer>(i))) result.push_back(static_cast<Layer>(i));
    }
    return result;
  }
  constexpr bool empty() const { return bits_ == 0; }
  /// True where a layer of what lanes met is in it: another one than color, display, alpha, cost
  /// and work.
  constexpr bool has_data() const {
    return (bits_ & ~of_paths().bits_ &
            ~(bit(Layer::color) | bit(Layer::display) | bit(Layer::cost) | bit(Layer::work) |
              bit(Layer::alpha))) != 0;
  }

 private:
  static constexpr std::uint64_t bit(Layer layer) {
    return std::uint64_t{1} << static_cast<unsigned>(layer);
  }
  std::uint64_t bits_ = 0;
};

/// One channel of one layer: `row(y)` from the top, pixels from the left. Rows start on a cache
/// line's boundary; `stride` is the distance between them in values.
template <class Value>
struct Plane {
  Value* data = nullptr;
  int width = 0;
  int height = 0;
  std::ptrdiff_t stride = 0;

  std::span<Value> row(int y) const { return {data + y * stride, static_cast<std::size_t>(width)}; }
  Value& operator()(int x, int y) const { return data[y * stride + x]; }
};

/// How a plane was iterated.
struct PlaneReport {
  PlaneNumber number = PlaneNumber::float64;
  std::string why;          ///< in words
  std::uint64_t limit = 0;  ///< steps
  bool past_limit = false;  ///< the number type hardly tells the pixels apart
  double doubtful = 0;      ///< share of the pixels that the next type ends in another way
  /// Share of the pixels that limit=auto left undecided though more steps might tell them: those
  /// would have cost too much.
  double undecided = 0;
  double taken = 0;        ///< share of the pixels that came from the frame before
  double taken_error = 0;  ///< steps those are off by, as root mean square of some of them
};

/// How far path-traced light has come.
struct PathReport {
  double samples = 0;   ///< a pixel, as mean
  double exposure = 1;  ///< radiance is shown so many times as bright
  /// Root mean square error that is left in what was gathered, in display values, and the ends of
  /// its 90 % interval. The error of what frame.denoise makes of it only a reference tells.
  double rmse = 0, rmse_low = 0, rmse_high = 0;
  double clamped = 0;  ///< share of the light that was thrown back, which frame.clamp took
};

/// What a frame cost, stage by stage, in milliseconds.
struct Cost {
  double compile_ms = 0;    ///< of the world, once, or of its last edit; not in total_ms
  double cast_ms = 0;       ///< finding what each lane meets
  double fill_ms = 0;       ///< turning that into pixels
  double encode_ms = 0;     ///< into a file or display values, where the caller asked for it
  StageTimes stages;        ///< of all threads, by what they did
  double waiting_ms = 0;    ///< of all threads, with nothing to do while others had
  int threads = 1;          ///< that it was made by
  std::size_t missing = 0;  ///< pieces around the eye that were not made yet; see World::missing()
  double total_ms() const { return cast_ms + fill_ms + encode_ms; }
};

/// A picture: named layers of pixels, what was spent on it and how long each stage took.
///
///   color         linear light, red, green and blue in channels 0, 1, 2
///   display       sRGB bytes packed as red | green << 8 | blue << 16 | 255 << 24, dithered
///   depth         meters along the view axis      (infinite where nothing was hit)
///   ray_distance  meters along the pixel's ray    (infinite where nothing was hit)
///   face          a Face; cell: the cell's id, y * width + x, or no_item; steps of the lane
///   ending        an Ending
///   normal        which way the surface faces, unit length, in channels 0, 1, 2 (0: nothing met)
///   material      index of the world's materials
///   evaluations   of fields, for the lane alone
///   nearest       meters: the least value of a field that the lane met (infinite without fields)
///   overstretched 1 where a field changed by more than it says it can; see check()
///   smooth_count  steps of a plane's point until it escapes, and their fraction (infinite: never)
///   edge_distance how far the edge of the inside is from a plane's point, in pixels (0 inside)
///   trap          how near the orbit of a plane's point comes to the trap
///   work          counted work of the pixel's lanes at fixed prices, about nanoseconds
///   alpha         how much of the pixel is covered, where frame.backdrop is false: colors are
///                 multiplied by it
///   motion        pixels to the right and down, in channels 0 and 1, by which what is seen moves
///                 until another time: see add_motion()
///   radiance      of path-traced light, without upper limit, in channels 0, 1, 2
///   bounces       of a pixel's paths, as mean
///   samples       of a pixel
///   variance      of the pixel's radiance, as mean of its channels
///   emission, albedo  of the first surface of a pixel's paths, as mean
///   light.N       radiance that was thrown back N times, up to 7
///   cost          nanoseconds of a thread that went to the pixel's lanes: differs each time
class Frame {
 public:
  Frame() = default;
  Frame(Size size, LayerSet layers);
  /// Takes over the memory of a frame that is no longer needed. Pixels are not cleared.
  Frame(Size size, LayerSet layers, Frame recycle);

  Size size() const { return size_; }
  LayerSet layers() const { return layers_; }
  bool has(Layer layer) const { return layers_.has(layer); }
  /// One layer more, where it does not have it; its pixels are not cleared.
  void add(Layer layer);

  /// A float layer; throws Error (usage) where the frame does not have it.
  Plane<float> values(Layer layer, int channel = 0);
  Plane<const float> values(Layer layer, int channel = 0) const;
  /// A layer of whole numbers, or display.
  Plane<std::uint32_t> codes(Layer layer);
  Plane<const std::uint32_t> codes(Layer layer) const;

  /// Bytes a frame of that size with those layers holds.
  static std::size_t memory_bytes(Size size, LayerSet layers);

  Budget budget;  ///< what it was made with
  /// Which pixels of a frame of the budget's size it has; none: all.
  std::optional<PixelPart> part;
  Tally tally;
  Cost cost;
  std::optional<PlaneReport> plane_report;  ///< of planes
  std::optional<PathReport> path_report;    ///< of light that goes by paths

 private:
  void* plane(Layer layer, int channel, bool codes) const;

  Size size_;
  std::ptrdiff_t stride_ = 0;
  LayerSet layers_;
  std::array<Buffer, layer_count> buffers_;
};

/// Adds the display layer made from the color layer, and the time to the frame's encode stage.
/// The same bytes as render() gives when asked for both.
void encode_display(Frame& frame);

}  // namespace photonlane
